"""Columns that come round are found one by one, whatever the others do."""

import numpy as np

from routrel.routing.arrays import UNSET
from routrel.routing.redistributed import Redistributed
from routrel.routing.redistribution.cycles import ColumnCycles


def state(values: dict[int, int], count: int) -> np.ndarray:
    rows = np.full((6, len(values)), UNSET, np.int64)
    rows[0], rows[1] = sorted(values), [values[number] for number in sorted(values)]
    return Redistributed(rows).digests(count)


def rounds(*periods: int, count: int) -> list[int]:
    """What is noted while column k goes round with period ``periods[k]``; 0 stands still, -1 grows for ever."""
    cycles = ColumnCycles(len(periods))
    found = []
    for now in range(count):
        values = {k: 7 if period == 0 else now if period < 0 else now % period for k, period in enumerate(periods)}
        found.append(cycles.note(state(values, len(periods))))
    return found


def test_periods_that_have_no_small_common_one_are_found_together():
    found = rounds(7, 9, 11, 0, count=16)
    assert found[-1] == 11, "the joint state would come back after 693 rounds"
    assert not any(found[:10])


def test_a_column_that_goes_on_keeps_the_end_open():
    assert not any(rounds(2, -1, count=12))
