"""`python -m fenrik.cli`."""

import sys

from fenrik.cli import main

if __name__ == "__main__":
    sys.exit(main())
