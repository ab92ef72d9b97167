"""The long run: ``python -m tests.kernel [--count N] [--first SEED]``, as root."""

import argparse
import sys

from tests.kernel.comparison import compare
from tests.kernel.namespaces import Lab, can_run


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=1000)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--show", type=int, default=3, help="rulesets with differences that are shown")
    options = parser.parse_args()
    reason = can_run()
    if reason:
        print(f"the kernel cannot be asked here: {reason}")
        return 2
    wrong = flows = unsure = shown = differing = 0
    with Lab() as lab:
        for seed in range(options.first, options.first + options.count):
            differences, lines, asked, not_sure = compare(lab, seed)
            flows, unsure, wrong = flows + asked, unsure + not_sure, wrong + len(differences)
            differing += bool(differences)
            if differences and shown < options.show:
                shown += 1
                print(f"seed {seed}:", *lines, *differences[:6], sep="\n", flush=True)
    print(f"{options.count} rulesets, {differing} with differences; {flows} flows, {wrong} wrong, {unsure} not sure")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
