"""Garbage collection put off while millions of objects are made that all stay."""

import gc
import threading
from collections.abc import Iterator
from contextlib import contextmanager

_lock = threading.Lock()
_waiting = 0


@contextmanager
def collection_paused() -> Iterator[None]:
    """Collect nothing meanwhile: reading and solving make few cycles, and looking for them takes half the time.

    Several threads may be inside at once; the last to leave lets collection go on, if it was on before.
    """
    global _waiting, _was_on
    with _lock:
        if _waiting == 0:
            _was_on = gc.isenabled()
            gc.disable()
        _waiting += 1
    try:
        yield
    finally:
        with _lock:
            _waiting -= 1
            if _waiting == 0 and _was_on:
                gc.enable()


_was_on = True


def keep() -> None:
    """Leave all there is out of later collections: a solved network stays, and looking through it takes long."""
    gc.freeze()


def let_go() -> None:
    """Collect what is no longer used of all that was kept, and keep the rest."""
    gc.unfreeze()
    gc.collect()
    gc.freeze()
