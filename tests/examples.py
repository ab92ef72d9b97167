"""How many random examples a property is tried on: as many as it says, or a tenth for daily use."""

import os

IS_QUICK = os.environ.get("ROUTREL_QUICK") == "1"


def examples(count: int) -> int:
    return max(5, count // 10) if IS_QUICK else count
