"""The estates that designs try, each evaluated once: what one design begins with is often another one."""

import json
from collections.abc import Iterator
from contextlib import contextmanager

from fenrask.designs.contract import Patch
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate

__all__ = ["drafted", "drafts_kept"]

_DRAFTS = "drafts"
"""Under which they are found among what is reused, with the estate of which they are."""


@contextmanager
def drafts_kept(described: Described) -> Iterator[None]:
    """Keep what `drafted` evaluates of an estate meanwhile, and let it go at the end."""
    before = described.reused.get(_DRAFTS)
    described.reused[_DRAFTS] = (described.estate, {})
    try:
        yield
    finally:
        described.reused[_DRAFTS] = before


def drafted(described: Described, patch: Patch, name: str, like: Evaluation | None = None) -> Evaluation:
    """The estate with a patch, evaluated; the same evaluation for the same patch, where drafts are kept.

    UnusableInput where the patch does not fit; `name` is for places in it.
    """
    kept = described.reused.get(_DRAFTS)
    known: dict[str, Evaluation] = kept[1] if kept and kept[0] is described.estate else {}
    key = json.dumps(patch, default=str)
    if key not in known:
        known[key] = evaluate(described.patched(patch, name), like=like)
    return known[key]
