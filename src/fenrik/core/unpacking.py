"""Archives unpacked with their bytes counted, whatever they declare."""

from __future__ import annotations

import io
import zipfile
import zlib
from collections.abc import Iterator

from fenrik.core.errors import fail

CHUNK = 1 << 16
MAX_MEMBERS = 2000


def unpacked(data: bytes, most_bytes: int, field: str = "file") -> Iterator[tuple[str, bytes]]:
    """Name and content of each member of a ZIP archive, one after another.

    Raises:
        FenrikError: with this field, where it is no archive, is damaged, or comes to more than `most_bytes`.
    """
    left = most_bytes
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            if len(archive.infolist()) > MAX_MEMBERS:
                raise fail(field, f"holds more than {MAX_MEMBERS} files.", "Export it again.")
            for member in archive.infolist():
                content = bytearray()
                with archive.open(member) as stream:
                    while chunk := stream.read(CHUNK):
                        content += chunk
                        if len(content) > left:
                            told = f"unpacks to more than {most_bytes // 2**20} MB."
                            raise fail(field, told, "Export less, or a coarser model.")
                left -= len(content)
                yield member.filename, bytes(content)
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, ValueError) as error:
        raise fail(field, f"is a damaged archive: {type(error).__name__}.", "Export it again.") from error


def check_unpacked(data: bytes, most_bytes: int, field: str) -> None:
    """Raise as `unpacked` does, before another package unpacks the same."""
    for _ in unpacked(data, most_bytes, field):
        pass
