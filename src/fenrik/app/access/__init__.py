"""Who may do what, from where: hosts and origins, headers, accounts and sessions."""

from __future__ import annotations

from typing import Literal, get_args

Role = Literal["look", "program", "run"]
ROLES: tuple[Role, ...] = get_args(Role)
"""Each may all that those before it may: look at jobs; program them; run the shop (its library, its accounts)."""
