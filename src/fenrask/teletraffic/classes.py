"""One limit shared by classes of unequal size (Kaufman 1981, Roberts 1981)."""

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, check_whole, unusable

__all__ = ["kaufman_roberts"]

_LARGE = 1e200


def kaufman_roberts(capacity: int, erlangs: ArrayLike, sizes: ArrayLike) -> Floats:
    """The refused share of each class, where a connection of a class takes `sizes` of `capacity` units.

    capacity: units, whole, at least 0; erlangs and sizes: arrays of shape (n_classes,), sizes whole and at
    least 1. Returns shape (n_classes,). By the recursion j q(j) = sum over classes of a b q(j - b), scaled
    as it grows. With one class of size 1 it is Erlang's formula.

    >>> [round(float(b), 6) for b in kaufman_roberts(4, [1.0, 0.5], [1, 2])]
    [0.102041, 0.265306]
    """
    load, size = (np.atleast_1d(one) for one in broadcast(erlangs=erlangs, sizes=sizes))
    units = broadcast(capacity=capacity)[0]
    check_whole("sizes", size)
    check_whole("capacity", units)
    if np.any(size < 1):
        raise unusable("sizes", f"{size[size < 1].flat[0]:g}", "whole numbers of at least 1")
    total = int(units)
    widths = size.astype(int)
    q = np.zeros(total + 1)
    q[0] = 1.0
    work = load * size
    for j in range(1, total + 1):
        back = j - widths
        inside = back >= 0
        q[j] = float(np.dot(work[inside], q[back[inside]])) / j
        if q[j] > _LARGE:
            q /= _LARGE
    q /= np.sum(q)
    return np.array([np.sum(q[max(0, total - width + 1) :]) for width in widths])
