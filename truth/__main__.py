"""`make truth`: ask the kernel, and print what it said beside what was predicted."""

import sys
from time import monotonic

from fenrask.rehearsal import missing
from truth.cases import CASES
from truth.lab import read_facts


def main() -> int:
    """Exit status 1 where the kernel did something else than predicted."""
    why = missing()
    if why:
        print(f"the kernel cannot be asked here: {why}")
        return 0
    short = "--short" in sys.argv
    names = [name for name in sys.argv[1:] if not name.startswith("--")] or list(CASES)
    print(f"Linux {read_facts()['kernel']}\n")
    print(f"{'case':66} {'measured':>9} {'95 % interval':>19} {'predicted':>9}  verdict")
    bad = 0
    for name in names:
        began = monotonic()
        for one in CASES[name](short):
            span = "" if one.low is None or one.low == one.high else f"{one.low:.4g} to {one.high:.4g}"
            verdict = "agrees" if one.agrees else "DIFFERS"
            bad += not one.agrees
            about = f"  ({one.about})" if one.about else ""
            print(f"{one.case:66} {one.measured:9.5g} {span:>19} {one.predicted:9.5g}  {verdict}{about}", flush=True)
        print(f"  {name}: {monotonic() - began:.0f} s", file=sys.stderr)
    print(f"\n{'everything agrees' if not bad else f'{bad} differ'}")
    if bad:
        print("Of what is a sample, one in twenty lies outside of its interval by chance: ask again, by name.")
    return int(bad > 0)


sys.exit(main())
