"""Things into the fewest boxes of several dimensions: found, and proven where it can be."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["Packing", "fewest_boxes"]

Floats = NDArray[np.float64]
Fits = Callable[[Sequence[int]], bool]
_SLACK = 1e-9
_SECONDS = 20.0
_MOST_ROWS = 400


@dataclass(frozen=True)
class Packing:
    """Boxes of things by number, and the fewest boxes that there can be: proven where both are the same."""

    boxes: tuple[tuple[int, ...], ...]
    at_least: int


def fewest_boxes(sizes: Floats, more: Fits | None = None) -> Packing:
    """Pack things into boxes of size 1 in every dimension; sizes: shape (n_things, n_rows), each at most 1.

    `more` is a further condition on the things of a box, which fewer things never break. First fit by
    falling size in several orders gives an answer, sums and Martello and Toth's L2 (1990) in each dimension a
    bound; where they differ, a mixed-integer programme decides (HiGHS, symmetry broken), unless `more` is given
    or its time is up.
    """
    rows = _telling(sizes)
    at_least = max(1, *(_bound(column) for column in rows.T)) if rows.size else 1

    def fits(things: Sequence[int]) -> bool:
        inside = not rows.size or bool(np.all(rows[list(things)].sum(axis=0) <= 1 + _SLACK))
        return inside and (more is None or more(things))

    boxes = min((_first_fit(order, fits) for order in _orders(rows)), key=len)
    while more is None and at_least < len(boxes):
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


def _divided(rows: Floats, boxes: int) -> tuple[list[list[int]] | None, bool]:
    """All things in so many boxes, if they go in; and whether that is certain. SciPy is loaded only here."""
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import coo_array

    things, dimensions = rows.shape
    order = np.argsort(-rows.max(axis=1), kind="stable")
    ordered = rows[order]
    # x[thing, box]; thing i goes into one of the first i + 1 boxes, so that boxes are not told apart.
    upper = np.tril(np.ones((things, boxes)))
    upper[boxes:] = 1
    cells = np.arange(things * boxes).reshape(things, boxes)
    once = coo_array((np.ones(cells.size), (np.repeat(np.arange(things), boxes), cells.ravel())))
    which = [
        (box * dimensions + row, cells[:, box], ordered[:, row]) for box in range(boxes) for row in range(dimensions)
    ]
    values = np.concatenate([size for _, _, size in which])
    lines = np.concatenate([np.full(things, line) for line, _, _ in which])
    columns = np.concatenate([column for _, column, _ in which])
    full = coo_array((values, (lines, columns)), shape=(boxes * dimensions, cells.size))
    answer = milp(
        np.zeros(cells.size),
        integrality=np.ones(cells.size),
        bounds=Bounds(0, upper.ravel()),
        constraints=[LinearConstraint(once, 1, 1), LinearConstraint(full, -np.inf, 1)],
        options={"time_limit": _SECONDS},
    )
    if answer.x is None:
        return None, answer.status == 2
    taken = np.argmax(answer.x.reshape(things, boxes), axis=1)
    return [[int(order[thing]) for thing in np.flatnonzero(taken == box)] for box in range(boxes)], True
