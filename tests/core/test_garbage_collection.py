"""Garbage collection is put off while large things are made, and goes on afterwards, whatever happens."""

import gc
import weakref

import pytest

from routrel.garbage_collection import collection_paused, keep, let_go


def test_it_goes_on_afterwards():
    assert gc.isenabled()
    with collection_paused():
        assert not gc.isenabled()
        with collection_paused():
            assert not gc.isenabled()
        assert not gc.isenabled()
    assert gc.isenabled()


def test_it_goes_on_after_an_error():
    with pytest.raises(ValueError, match="no"), collection_paused():
        raise ValueError("no")
    assert gc.isenabled()


def test_it_stays_off_where_it_was_off():
    gc.disable()
    try:
        with collection_paused():
            pass
        assert not gc.isenabled()
    finally:
        gc.enable()


def test_what_is_kept_is_left_out_until_it_is_let_go():
    class Ring:
        def __init__(self):
            self.itself = self

    gc.collect()
    ring = Ring()
    gone = weakref.ref(ring)
    keep()
    try:
        del ring
        gc.collect()
        assert gone() is not None
        let_go()
        assert gone() is None
    finally:
        gc.unfreeze()
