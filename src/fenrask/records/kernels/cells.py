"""Compiled loops over columns of text as Arrow holds them: one run of bytes, and where each cell begins in it."""

import numpy as np

from fenrask.compiling import FEW, compiled_beyond

__all__ = ["decimals", "dotted_cells", "longest"]

_DOT, _ZERO, _MINUS, _PLUS, _SPACE = 46, 48, 45, 43, 32


@compiled_beyond(FEW)
def dotted_cells(letters, begins):
    """IPv4 addresses as numbers, uint32, and which cells are one, both of shape (n_cells,).

    An address is four decimal numbers up to 255 of one to three digits, with dots between them.
    """
    n = begins.size - 1
    found, good = np.zeros(n, dtype=np.uint32), np.zeros(n, dtype=np.bool_)
    for row in range(n):
        number, part, digits, dots, fine = np.uint64(0), np.uint64(0), 0, 0, True
        for at in range(begins[row], begins[row + 1]):
            sign = letters[at]
            if sign == _DOT:
                fine &= digits > 0
                number, part, digits, dots = (number << np.uint64(8)) | part, np.uint64(0), 0, dots + 1
            elif _ZERO <= sign <= _ZERO + 9:
                part, digits = part * np.uint64(10) + np.uint64(sign - _ZERO), digits + 1
            else:
                fine = False
            if digits > 3 or part > np.uint64(255) or dots > 3 or not fine:
                fine = False
                break
        if fine and dots == 3 and digits > 0:
            found[row], good[row] = np.uint32((number << np.uint64(8)) | part), True
    return found, good


@compiled_beyond(FEW)
def decimals(letters, begins):
    """Plain decimal numbers, float64, and which cells are one, both of shape (n_cells,).

    Signs, digits and one point; whatever else there is (an exponent, a word) is not read here. Digits gather in a whole
    number and are scaled once, so that up to 15 of them are exactly the nearest number.
    """
    n = begins.size - 1
    found, good = np.zeros(n, dtype=np.float64), np.zeros(n, dtype=np.bool_)
    for row in range(n):
        at, end = begins[row], begins[row + 1]
        while at < end and letters[at] == _SPACE:
            at += 1
        while end > at and letters[end - 1] == _SPACE:
            end -= 1
        negative = at < end and letters[at] == _MINUS
        if at < end and (letters[at] == _MINUS or letters[at] == _PLUS):
            at += 1
        whole, scale, digits, points, fine = np.int64(0), 1.0, 0, 0, True
        while at < end:
            sign = letters[at]
            if _ZERO <= sign <= _ZERO + 9:
                whole, digits = whole * 10 + (sign - _ZERO), digits + 1
                if points:
                    scale *= 10.0
            elif sign == _DOT and points == 0:
                points = 1
            else:
                fine = False
            if digits > 18 or not fine:
                fine = False
                break
            at += 1
        if fine and digits > 0:
            value = whole / scale
            found[row], good[row] = -value if negative else value, True
    return found, good


@compiled_beyond(FEW)
def longest(of_high, starts, values, addresses):
    """The value of the range that holds each address, int32 of shape (n_addresses,).

    `starts` are the ranges' first addresses in rising order; `of_high[h]` is how many of them are at or below the last
    address that begins with the 16 bits before h, so that only the ranges of one /16 are searched.
    """
    found = np.empty(addresses.size, dtype=np.int32)
    for row in range(addresses.size):
        address = np.uint64(addresses[row])
        high = address >> np.uint64(16)
        low, top = of_high[high], of_high[high + np.uint64(1)]
        while low < top:
            middle = (low + top) >> 1
            if starts[middle] <= address:
                low = middle + 1
            else:
                top = middle
        found[row] = values[low - 1]
    return found
