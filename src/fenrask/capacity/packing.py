"""Things into the fewest boxes of several dimensions: found, and proven where it can be."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrask.programming import Program

__all__ = ["Packing", "fewest_boxes"]

Floats = NDArray[np.float64]
Fits = Callable[[Sequence[int]], bool]
_SLACK = 1e-9
_MOST_ROWS = 400
_SEEDS, _MOST_NUMBERS = 4, 100_000
"""Ways to fill boxes that are tried, and numbers up to which it is more than one."""
_MOST_CELLS = 2000
"""Things x boxes up to which a mixed-integer programme decides in a second or so."""
_NODES = 4000
"""Contents that are tried for one box before the best so far is taken."""
_BRANCHES = 8
"""Things tried next to those in a box, at each step."""


@dataclass(frozen=True)
class Packing:
    """Boxes of things by number, and the fewest boxes that there can be: proven where both are the same."""

    boxes: tuple[tuple[int, ...], ...]
    at_least: int


def fewest_boxes(sizes: Floats, more: Fits | None = None) -> Packing:
    """Pack things into boxes of size 1 in every dimension; sizes: shape (n_things, n_rows), each at most 1.

    `more` is a further condition on the things of a box, which fewer things never break. Sums and Martello
    and Toth's L2 (1990) in each dimension are a bound. First fit by falling size in several orders, then boxes
    filled one by one with the least slack (Gupta & Ho 1999), meet it for all but hard cases; of those the
    small ones are decided by a mixed-integer programme (HiGHS, symmetry broken) unless `more` is given.
    """
    rows = _telling(sizes)
    at_least = max(1, *(_bound(column) for column in rows.T)) if rows.size else 1

    def fits(things: Sequence[int]) -> bool:
        inside = not rows.size or bool(np.all(rows[list(things)].sum(axis=0) <= 1 + _SLACK))
        return inside and (more is None or more(things))

    boxes = min((_first_fit(order, fits) for order in _orders(rows)), key=len)
    seeds = _SEEDS if more is None and rows.size <= _MOST_NUMBERS else int(more is None)
    for seed in range(seeds):
        if at_least == len(boxes):
            break
        boxes = min(boxes, _filled(rows, seed), key=len)
    while more is None and at_least < len(boxes) and len(rows) * (len(boxes) - 1) <= _MOST_CELLS:
        found, proven = _divided(rows, len(boxes) - 1)
        if found is None:
            at_least = len(boxes) if proven else at_least
            break
        boxes = found
    return Packing(tuple(map(tuple, boxes)), at_least)


def _telling(sizes: Floats) -> Floats:
    """The dimensions that can matter: fuller than one box in all, and not below another throughout."""
    rows = np.unique(sizes[:, sizes.sum(axis=0) > 1 + _SLACK], axis=1)
    rows = rows[:, np.argsort(-rows.sum(axis=0))][:, :_MOST_ROWS]
    kept: list[int] = []
    for number in range(rows.shape[1]):
        if not any(np.all(rows[:, number] <= rows[:, other]) for other in kept):
            kept.append(number)
    return rows[:, kept]


def _bound(sizes: Floats) -> int:
    """Martello and Toth's L2: things over 1 - k stand alone; those from k to 1/2 fill what the large leave."""
    best = int(np.ceil(float(np.sum(sizes)) - 1e-7))
    for k in np.unique(sizes[sizes <= 0.5]):
        huge, large = sizes > 1 - k + _SLACK, (sizes > 0.5) & (sizes <= 1 - k + _SLACK)
        small = (sizes >= k) & (sizes <= 0.5)
        over = float(np.sum(sizes[small])) - (int(large.sum()) - float(np.sum(sizes[large])))
        best = max(best, int(huge.sum() + large.sum()) + max(0, int(np.ceil(over - 1e-7))))
    return best


def _orders(rows: Floats) -> Iterator[list[int]]:
    """The largest first: by the greatest size, by the sum, and by each of the fullest dimensions."""
    if not rows.size:
        yield list(range(rows.shape[0]))
        return
    for key in (rows.max(axis=1), rows.sum(axis=1), *rows.T[:4]):
        yield [int(number) for number in np.argsort(-key, kind="stable")]


def _first_fit(order: Sequence[int], fits: Fits) -> list[list[int]]:
    boxes: list[list[int]] = []
    for thing in order:
        for box in boxes:
            if fits([*box, thing]):
                box.append(thing)
                break
        else:
            boxes.append([thing])
    return boxes


def _filled(rows: Floats, seed: int) -> list[list[int]]:
    """Box after box: the largest thing left, and with it those that leave the least slack.

    What counts as slack is weighed by how full each dimension is in all; all but the first try shake the weights.
    """
    dice = np.random.default_rng(seed)
    weights = rows.sum(axis=0) ** 2 * (dice.uniform(0.5, 1.5, rows.shape[1]) if seed else 1.0)
    worth = rows @ (weights / weights.sum())
    left = [int(thing) for thing in np.argsort(-worth, kind="stable")]
    boxes = []
    while left:
        box = _tightest(left, rows, worth)
        boxes.append(box)
        left = [thing for thing in left if thing not in box]
    return boxes


def _tightest(left: Sequence[int], rows: Floats, worth: Floats) -> list[int]:
    """The first thing and those after it that together are worth most and fit; the best of so many tries."""
    best, most, tries = [left[0]], 0.0, 0
    ends = np.cumsum(worth[left][::-1])[::-1]
    stack = [([left[0]], 1.0 - rows[left[0]], float(worth[left[0]]), 1)]
    while stack and tries < _NODES and most < 1 - 1e-4:
        box, room, value, place = stack.pop()
        tries += 1
        if value > most:
            best, most = box, value
        if place >= len(left) or value + ends[place] <= most:
            continue
        fitting = np.flatnonzero(np.all(rows[left[place:]] <= room + _SLACK, axis=1))[:_BRANCHES]
        for offset in fitting[::-1]:
            thing = left[place + offset]
            stack.append(([*box, thing], room - rows[thing], value + float(worth[thing]), place + int(offset) + 1))
    return best


def _divided(rows: Floats, boxes: int) -> tuple[list[list[int]] | None, bool]:
    """All things in so many boxes, if they go in; and whether that is certain."""
    things = len(rows)
    order = np.argsort(-rows.max(axis=1), kind="stable")
    program = Program()
    # Thing i goes into one of the first i + 1 boxes, so that boxes are not told apart.
    cells = [[program.variable(upper=float(box <= thing)) for box in range(boxes)] for thing in range(things)]
    for own in cells:
        program.row(dict.fromkeys(own, 1.0), 1, 1)
    for box in range(boxes):
        for column in rows[order].T:
            program.row({cells[thing][box]: float(size) for thing, size in enumerate(column)}, high=1)
    found, impossible = program.decide()
    if found is None:
        return None, impossible
    taken = np.argmax(found.values.reshape(things, boxes), axis=1)
    return [[int(order[thing]) for thing in np.flatnonzero(taken == box)] for box in range(boxes)], True
