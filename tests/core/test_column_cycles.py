"""Columns that come round are found one by one, whatever the others do."""

import numpy as np

from routrel.routing.column_cycles import ColumnCycles
from routrel.routing.rows import UNSET, Injected


def injected(values: dict[int, int]) -> list[dict[int, Injected]]:
    rows = np.full((6, len(values)), UNSET, np.int64)
    rows[0], rows[1] = sorted(values), [values[number] for number in sorted(values)]
    return [{0: Injected(rows)}]


def rounds(*periods: int, count: int) -> list[int]:
    """What is noted while column k goes round with period ``periods[k]``; 0 stands still, -1 grows for ever."""
    cycles = ColumnCycles(len(periods))
    found = []
    for now in range(count):
        state = {k: 7 if period == 0 else now if period < 0 else now % period for k, period in enumerate(periods)}
        found.append(cycles.note(injected(state), [{}]))
    return found


def test_periods_that_have_no_small_common_one_are_found_together():
    found = rounds(7, 9, 11, 0, count=16)
    assert found[-1] == 11, "the joint state would come back after 693 rounds"
    assert not any(found[:10])


def test_a_column_that_goes_on_keeps_the_end_open():
    assert not any(rounds(2, -1, count=12))


def test_what_a_table_does_not_use_is_part_of_a_state():
    cycles = ColumnCycles(2)
    found = [cycles.note(injected({0: 1}), [{0: np.array([bool(now % 2), False])}]) for now in range(4)]
    assert found == [0, 0, 2, 2]
