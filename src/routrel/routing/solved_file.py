"""A solved network as a file, for any process of this machine: objects pickled, their arrays beside them and mapped.

Such a file is a cache: it holds for the code that wrote it and is safe to delete. It is opened by unpickling, which
runs what it says; so it belongs in a folder that nobody else may write to.
"""

import hashlib
import io
import mmap
import os
import pickle
import struct
import tempfile
from collections.abc import Callable, Hashable
from dataclasses import fields, is_dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import routrel
from routrel.garbage_collection import collection_paused
from routrel.routing.solve import Solved

MAGIC = b"routrel solved network\n"
ALIGNMENT = 64
_NUMBERS = struct.Struct("<Q")


class SolvedFileError(Exception):
    """A file that this code cannot open; the message says why."""


@lru_cache(1)
def code_key() -> bytes:
    """A digest of the core's own source: what other code has solved may mean something else."""
    digest = hashlib.blake2b(digest_size=32)
    root = Path(routrel.__file__).parent
    for path in sorted(root.rglob("*.py")):
        digest.update(str(path.relative_to(root)).encode() + b"\0" + path.read_bytes())
    return digest.digest()


class _Pickler(pickle.Pickler):
    """Writes values so that they are filled by their slots: what dataclasses do by themselves asks for the fields of
    each again, which takes most of the time of opening."""

    def reducer_override(self, of: Any) -> Any:
        kind = type(of)
        if not (is_dataclass(kind) and hasattr(kind, "__slots__")):
            return NotImplemented
        return _filled, (kind, *(getattr(of, name) for name in _slots(kind)[0]))


@lru_cache(None)
def _slots(kind: Hashable) -> tuple[list[str], list[Callable[[object, object], None]]]:
    """The fields of a dataclass with slots, and what sets each, of an immutable one too."""
    assert isinstance(kind, type) and is_dataclass(kind)
    names = [one.name for one in fields(kind)]
    return names, [getattr(kind, name).__set__ for name in names]


def _filled(kind: type, *values: object) -> object:
    """A value of a class of slots, as it was."""
    made: object = object.__new__(kind)
    for put, value in zip(_slots(kind)[1], values, strict=True):
        put(made, value)
    return made


@collection_paused()
def save_solved(solved: Solved, path: Path) -> None:
    """Write a file beside its place and put it there whole."""
    buffers: list[pickle.PickleBuffer] = []
    written = io.BytesIO()
    _Pickler(written, protocol=5, buffer_callback=buffers.append).dump(solved)
    objects = written.getbuffer()
    arrays = [buffer.raw() for buffer in buffers]
    sizes = [len(objects), *(array.nbytes for array in arrays)]
    with tempfile.NamedTemporaryFile(dir=path.parent, prefix=path.name, delete=False) as file:
        try:
            file.write(MAGIC + code_key())
            file.write(b"".join(map(_NUMBERS.pack, [len(sizes), *sizes])))
            for part in (memoryview(objects), *arrays):
                file.write(b"\0" * (-file.tell() % ALIGNMENT))
                file.write(part)
            file.close()
            os.replace(file.name, path)
        except BaseException:
            os.unlink(file.name)
            raise


@collection_paused()
def open_solved(path: Path) -> Solved:
    """What was saved; its arrays are read from disk when they are looked at, and writing to them changes no file.

    Raises ``SolvedFileError`` for a file of other code, or none of these at all.
    """
    with path.open("rb") as file:
        whole = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_COPY) if os.fstat(file.fileno()).st_size else b""
    start = len(MAGIC) + len(code_key())
    if whole[: len(MAGIC)] != MAGIC:
        raise SolvedFileError(f"{path} holds no solved network")
    if whole[len(MAGIC) : start] != code_key():
        raise SolvedFileError(f"{path} was written by another version")
    view = memoryview(whole)
    try:
        (count,) = _NUMBERS.unpack_from(view, start)
        sizes = struct.unpack_from(f"<{count}Q", view, start + _NUMBERS.size)
        at = start + _NUMBERS.size * (1 + count)
        parts = []
        for size in sizes:
            at += -at % ALIGNMENT
            parts.append(view[at : at + size])
            at += size
        if at != len(view):
            raise SolvedFileError(f"{path} is cut off")
    except struct.error:
        raise SolvedFileError(f"{path} is cut off") from None
    solved = pickle.loads(parts[0], buffers=parts[1:])
    assert isinstance(solved, Solved)
    return solved
