"""Compiled: what the counts of each pair come to; those of a pair are together, from its `firsts` to the next one's."""

import math

import numpy as np

from fenrask.compiling import FEW, compiled, compiled_beyond

__all__ = ["STATES", "busiest_of", "concurrency_of", "dispersions_of", "laws_of"]

_HOUR, _MINUTE = 3600, 60
_CELLS = 50
"""Parts of equal shares that a measured law is cut into, of the connections and of their time."""
_WIDEST = 1.6448536269514722
"""Sigma of a lognormal law above which the same p95 is one of a law with a lighter tail."""


STATES = 4
"""Of each pair: how many are open, since when, the most so far, and when these were open first."""


@compiled_beyond(FEW)
def concurrency_of(opened, opened_firsts, ended, ended_firsts, states, area):
    """Go on with each pair's `states`, shape (n_pairs, STATES), and its open connections x time, `area` (n_pairs,).

    opened, ended: when connections do, in rising order within a pair, and later than those that were given before.
    """
    for pair in range(opened_firsts.size - 1):
        next_opened, next_ended, last, last_other = (
            opened_firsts[pair], ended_firsts[pair], opened_firsts[pair + 1], ended_firsts[pair + 1]
        )  # fmt: skip
        now, before, most, when = states[pair, 0], states[pair, 1], states[pair, 2], states[pair, 3]
        while next_opened < last or next_ended < last_other:
            at = ended[next_ended] if next_opened == last else opened[next_opened]
            if next_ended < last_other:
                at = min(at, ended[next_ended])
            area[pair] += float(now) * float(at - before)
            while next_opened < last and opened[next_opened] == at:
                now, next_opened = now + 1, next_opened + 1
            while next_ended < last_other and ended[next_ended] == at:
                now, next_ended = now - 1, next_ended + 1
            if now > most:
                most, when = now, at
            before = at
        states[pair, 0], states[pair, 1], states[pair, 2], states[pair, 3] = now, before, most, when


@compiled_beyond(FEW)
def busiest_of(seconds, starts, firsts):
    """Connections that begin in all, and the most of them in a minute; shapes (n_pairs,)."""
    n = firsts.size - 1
    total, most = np.zeros(n, np.int64), np.zeros(n, np.int64)
    for pair in range(n):
        minute, some = -1, 0
        for place in range(firsts[pair], firsts[pair + 1]):
            if seconds[place] // _MINUTE != minute:
                minute, some = seconds[place] // _MINUTE, 0
            some += starts[place]
            most[pair] = max(most[pair], some)
            total[pair] += starts[place]
    return total, most


@compiled_beyond(FEW)
def dispersions_of(seconds, starts, firsts, hours, widths):
    """Variance to mean of windows of each width, about their hours' means, shape (n_pairs, n_widths).

    Of whole `hours`, since 1970 and rising. Beside them the sum of the counts, and of the squares of the hours'; both
    are 0 of pairs with less than two seconds.
    """
    n = firsts.size - 1
    ratios = np.ones((n, widths.size), np.float64)
    total, square = np.zeros(n, np.float64), np.zeros(n, np.float64)
    kept, counts = np.empty(seconds.size, np.int64), np.empty(seconds.size, np.float64)
    for pair in range(n):
        number, hour, of_hour, place = 0, -1, 0.0, 0
        for at in range(firsts[pair], firsts[pair + 1]):
            own = seconds[at] // _HOUR
            while place < hours.size and hours[place] < own:
                place += 1
            if place == hours.size or hours[place] != own:
                continue
            if own != hour:
                square[pair] += of_hour * of_hour
                hour, of_hour = own, 0.0
            kept[number], counts[number] = seconds[at], starts[at]
            of_hour += starts[at]
            total[pair] += starts[at]
            number += 1
        square[pair] += of_hour * of_hour
        if number < 2:
            total[pair], square[pair] = 0.0, 0.0
            continue
        for which in range(widths.size):
            width = widths[which]
            squares, window, some = 0.0, -1, 0.0
            for at in range(number):
                if kept[at] // width != window:
                    squares += some * some
                    window, some = kept[at] // width, 0.0
                some += counts[at]
            squares += some * some
            windows = _HOUR // width
            excess = squares - square[pair] / windows
            ratios[pair, which] = excess / (windows - 1) * windows / total[pair]
    return ratios, total, square


@compiled
def _survivals(counts, first, last, cut_bins, cut_counts, first_cut, last_cut, bins, total, weights):
    """The weight of each bin where some were cut off: each of these weighs on all that lasted longer, in equal parts.

    Kaplan & Meier 1958; what is left at the end is as long as the longest.
    """
    survival, gone, place = 1.0, 0, first_cut
    for at in range(first, last):
        cut = 0
        while place < last_cut and cut_bins[place] == bins[at]:
            cut += cut_counts[place]
            place += 1
        after = survival * (1 - (counts[at] - cut) / (total - gone))
        weights[at - first] = survival - after
        survival, gone = after, gone + counts[at]
    weights[last - first - 1] += survival
    for at in range(last - first):
        weights[at] *= total


@compiled_beyond(FEW)
def laws_of(bins, counts, firsts, cut_bins, cut_counts, cut_firsts, sums_ms, of_bin, half_bin, shares, good):
    """How long connections last, by bin; of_bin: its middle, s; half_bin: from there to its upper edge, times.

    Returned, by pair: the mean, s; the durations below which `shares` of them lie; the law that is nearest (0
    exponential, 1 lognormal, 2 as measured, where none is as near as `good`), its distance and its p95; and the law as
    measured in cells: durations and shares, those of a pair from its `begins` on.
    """
    n, most = firsts.size - 1, max(1, np.max(firsts[1:] - firsts[:-1])) if firsts.size > 1 else 1
    mean, quantiles = np.zeros(n, np.float64), np.zeros((n, shares.size), np.float64)
    kind, distance, p95 = np.full(n, 2, np.int64), np.ones(n, np.float64), np.zeros(n, np.float64)
    begins, filled = np.zeros(n + 1, np.int64), 0
    cell_values, cell_shares = np.empty(bins.size + n, np.float64), np.empty(bins.size + n, np.float64)
    values, weights = np.empty(most, np.float64), np.empty(most, np.float64)
    for pair in range(n):
        first, last = firsts[pair], firsts[pair + 1]
        size, total = last - first, 0
        for at in range(first, last):
            total += counts[at]
        if not total:
            values[0], weights[0], size = 0.0, 1.0, 1
        else:
            mean[pair] = sums_ms[pair] / 1e3 / total
            for at in range(size):
                values[at], weights[at] = of_bin[bins[first + at]], float(counts[first + at])
            if cut_firsts[pair + 1] > cut_firsts[pair]:
                exact = 0.0
                for at in range(size):
                    exact += weights[at] * values[at]
                # Bins are 2 % wide: what they make of the whole is taken out again.
                exact = mean[pair] * total / max(exact, 1e-300) if mean[pair] else 1.0
                _survivals(
                    counts, first, last, cut_bins, cut_counts, cut_firsts[pair], cut_firsts[pair + 1], bins, total,
                    weights,
                )  # fmt: skip
                seen, mean[pair] = 0, 0.0
                for at in range(size):
                    if weights[at] > 0:
                        values[seen], weights[seen] = values[at], weights[at]
                        mean[pair] += weights[at] / total * values[at]
                        seen += 1
                size, mean[pair] = seen, mean[pair] * exact
        _quantiles(values, weights, size, shares, quantiles[pair])
        kind[pair], distance[pair], p95[pair] = _nearest(values, weights, size, mean[pair], half_bin, good)
        filled = _cells(values, weights, size, mean[pair], cell_values, cell_shares, filled)
        begins[pair + 1] = filled
    return mean, quantiles, kind, distance, p95, cell_values[:filled], cell_shares[:filled], begins


@compiled
def _quantiles(values, weights, size, shares, found):
    total, below, which = weights[:size].sum(), 0.0, 0
    for at in range(size):
        below += weights[at]
        while which < shares.size and (below >= shares[which] * total or at == size - 1):
            found[which] = values[at]
            which += 1


@compiled
def _cells(values, weights, size, mean, cell_values, cell_shares, filled):
    """Cells that end at each fiftieth of the connections, and of their time; the longest is one of its own."""
    first, total, time = filled, weights[:size].sum(), 0.0
    for at in range(size):
        time += weights[at] / total * values[at]
    of_share, of_time, last_share, last_time = 0.0, 0.0, -1, -1
    for at in range(size):
        share = weights[at] / total
        of_all = share * values[at] / time if time else share
        of_share, of_time = of_share + share, of_time + of_all
        cell, cell_of_time = (
            int(math.floor((of_share - share / 2) * _CELLS)),
            int(math.floor((of_time - of_all / 2) * _CELLS)),
        )
        if at == 0 or at == size - 1 or cell > last_share or cell_of_time > last_time:
            cell_values[filled], cell_shares[filled] = 0.0, 0.0
            filled += 1
        last_share, last_time = cell, cell_of_time
        cell_values[filled - 1] += share * values[at]
        cell_shares[filled - 1] += share
    whole = 0.0
    for at in range(first, filled):
        whole += cell_values[at]
    for at in range(first, filled):
        cell_values[at] = cell_values[at] / cell_shares[at] * (mean / whole if whole else 1.0)
    return filled


@compiled
def _farther(distance, law, before, after):
    """The greater of a distance and that of a law from a step of what was measured (Kolmogorov 1933)."""
    return max(distance, abs(law - after), before - law)


@compiled
def _nearest(values, weights, size, mean, half_bin, good):
    """The nearer of an exponential and a lognormal law of the same mean, its distance and p95; 2: none is near.

    The distance is the greater of those of the connections, and of the time that they take together.
    """
    if mean <= 0:
        return 2, 1.0, 0.0
    total, time, positive, logs = 0.0, 0.0, 0.0, 0.0
    for at in range(size):
        total += weights[at]
        time += weights[at] * values[at]
        if values[at] > 0:
            positive += weights[at]
            logs += weights[at] * math.log(values[at])
    squares = 0.0
    for at in range(size):
        if values[at] > 0:
            squares += weights[at] * (math.log(values[at]) - logs / positive) ** 2
    sigma = math.sqrt(squares / positive) if positive > 1 else 0.0
    has_normal = 0 < sigma <= _WIDEST
    far, far_normal, before, before_time = 0.0, 0.0, 0.0, 0.0
    for at in range(size):
        edge = values[at] * half_bin
        after = before + weights[at] / total
        after_time = before_time + (weights[at] * values[at] / time if time else weights[at] / total)
        survival = math.exp(-edge / mean)
        far = _farther(far, 1 - survival, before, after)
        far = _farther(far, 1 - (1 + edge / mean) * survival, before_time, after_time)
        if has_normal:
            z = (math.log(max(edge, 1e-300)) - math.log(mean) + sigma * sigma / 2) / sigma
            far_normal = _farther(far_normal, 0.5 * math.erfc(-z / math.sqrt(2)), before, after)
            far_normal = _farther(far_normal, 0.5 * math.erfc(-(z - sigma) / math.sqrt(2)), before_time, after_time)
        before, before_time = after, after_time
    if has_normal and far_normal < far:
        p95 = mean * math.exp(_WIDEST * sigma - sigma * sigma / 2)
        return (1 if far_normal <= good else 2), far_normal, p95
    return (0 if far <= good else 2), far, 0.0
