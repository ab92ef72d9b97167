"""Zip archives of a network or of a folder of devices, opened with suspicion.

Names are checked before anything is read; sizes are counted while reading, not believed.
"""

import io
import zipfile
import zlib

from routrel.formats.errors import InputError, LoadError, quoted
from routrel.formats.mrt.records import SUFFIXES as DUMP_SUFFIXES
from routrel.model.places import Place

MAX_MEMBERS = 30_000
MAX_UNPACKED = 128 * 1024 * 1024
MAX_RATIO = 200
CHUNK = 1 << 20
METHODS = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)
FIRST_OF_CAPTURE = ("addresses.json", "routes.json")
DOCUMENT_SUFFIXES = (".json", ".xml", ".csv", ".txt", *DUMP_SUFFIXES)
SUFFIXES = (".yaml", *DOCUMENT_SUFFIXES)


def is_zip(data: bytes) -> bool:
    """Whether data begins as a zip archive does."""
    return data.startswith((b"PK\x03\x04", b"PK\x05\x06"))


def unpack(data: bytes, name: str) -> dict[str, bytes]:
    """The YAML, JSON, XML, CSV, TXT and MRT files of an archive by their path, without one common top folder.

    Raises ``LoadError`` for an archive that is broken, too large unpacked, or names places outside.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            members = _checked_members(archive, name, len(data))
            files = _read_members(archive, members, name)
    except (zipfile.BadZipFile, zipfile.LargeZipFile, zlib.error, EOFError, OSError, ValueError, RuntimeError) as error:
        raise _refusal(name, f"this zip archive cannot be read: {error}") from None
    if not files:
        raise _refusal(
            name, "the archive holds no network", "network.yaml with devices/NAME.yaml, or a folder of devices"
        )
    return _without_top_folder(files)


def _refusal(name: str, message: str, allowed: str = "", found: str = "") -> LoadError:
    return LoadError([InputError(Place(name, 1, 1), message, found, allowed)])


def _checked_members(archive: zipfile.ZipFile, name: str, size: int) -> list[zipfile.ZipInfo]:
    if not all(member.filename for member in archive.infolist()):
        raise _refusal(name, "a file in the archive has no name", "a name each")
    members = [member for member in archive.infolist() if not member.is_dir()]
    if len(members) > MAX_MEMBERS:
        raise _refusal(name, "the archive holds too many files", f"at most {MAX_MEMBERS:,}", f"{len(members):,}")
    total = sum(member.file_size for member in members)
    if total > MAX_UNPACKED or total > MAX_RATIO * size + CHUNK:
        raise _refusal(
            name,
            "the archive unpacks to too much",
            f"at most {MAX_UNPACKED:,} bytes, and {MAX_RATIO} times its size",
            f"{total:,} bytes",
        )
    seen: set[str] = set()
    for member in members:
        path = member.filename
        parts = path.replace("\\", "/").split("/")
        if path.startswith(("/", "\\")) or ".." in parts or "\0" in path or ":" in parts[0] or "\\" in path:
            raise _refusal(name, "a file in the archive names a place outside it", "relative paths", quoted(path))
        if member.external_attr >> 28 == 0o12:
            raise _refusal(name, "the archive holds a symbolic link", "plain files", quoted(path))
        if member.compress_type not in METHODS:
            raise _refusal(
                name, "a file in the archive is packed in an unusual way", "stored or deflated", quoted(path)
            )
        if member.flag_bits & 1:
            raise _refusal(name, "a file in the archive is encrypted", "plain files", quoted(path))
        if path in seen:
            raise _refusal(name, "a file stands twice in the archive", "each once", quoted(path))
        seen.add(path)
    return [member for member in members if _is_wanted(member.filename)]


def _is_wanted(path: str) -> bool:
    hidden = any(part.startswith((".", "__MACOSX")) for part in path.split("/"))
    return path.endswith(SUFFIXES) and not hidden


def _read_members(archive: zipfile.ZipFile, members: list[zipfile.ZipInfo], name: str) -> dict[str, bytes]:
    files: dict[str, bytes] = {}
    left = MAX_UNPACKED
    for member in members:
        with archive.open(member) as stream:
            data = bytearray()
            while chunk := stream.read(CHUNK):
                data += chunk
                left -= len(chunk)
                if left < 0:
                    raise _refusal(name, "the archive unpacks to too much", f"at most {MAX_UNPACKED:,} bytes")
        files[member.filename] = bytes(data)
    return files


def _without_top_folder(files: dict[str, bytes]) -> dict[str, bytes]:
    """A zip made of a folder holds that folder: its name is taken off where the network starts inside."""
    tops = {path.split("/")[0] for path in files}
    if len(tops) != 1 or not all("/" in path for path in files):
        return files
    inner = {path.split("/", 1)[1]: data for path, data in files.items()}
    starts = ("network.yaml", "capture.json")
    nested = any(path in starts for path in inner) or any(path.count("/") == 1 for path in inner)
    # Files of one capture stay in the folder that names their device; other documents name a device each.
    is_capture = any(path in FIRST_OF_CAPTURE for path in inner)
    documents = any(path.endswith(DOCUMENT_SUFFIXES) for path in inner)
    return inner if nested or (documents and not is_capture) else files
