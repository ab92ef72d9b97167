"""The network that ships with Routrel, to begin with."""

import io
import zipfile

from django.conf import settings

EXAMPLE = settings.ROOT / "examples" / "saltmarsh"
FILE_NAME = "saltmarsh.zip"


def zipped_example() -> bytes:
    """The example folder as a zip archive, the same bytes each time."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for path in sorted(EXAMPLE.rglob("*.yaml")):
            member = zipfile.ZipInfo(path.relative_to(EXAMPLE).as_posix(), (2026, 1, 1, 0, 0, 0))
            archive.writestr(member, path.read_bytes(), zipfile.ZIP_DEFLATED)
    return buffer.getvalue()
