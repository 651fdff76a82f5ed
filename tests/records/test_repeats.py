"""How like themselves counts are after some time, against sums over all seconds."""

import unittest

import numpy as np

from fenrask.records.kernels.repeats import likeness, pairs_apart


class Repeats(unittest.TestCase):
    def test_by_pairs_is_by_all_seconds(self) -> None:
        for seed in range(30):
            dice = np.random.default_rng(seed)
            span, width = int(dice.integers(20, 2000)), int(dice.choice([3, 15, 61]))
            regular, drawn = np.arange(0, span, int(dice.integers(4, 9))), dice.integers(0, span, 2000)
            seconds, starts = np.unique(drawn if seed % 3 else regular, return_counts=True)
            seconds -= seconds[0]
            span, most = int(seconds[-1]) + 1, int(seconds[-1]) // 3
            counts = np.bincount(seconds, weights=starts)
            summed = np.convolve(counts, np.ones(width))
            about = summed - summed.mean()
            lags = range(most + 1)
            plain = np.array([float(np.dot(about[: about.size - lag], about[lag:])) for lag in lags])
            plain = plain / plain[0] * about.size / (about.size - np.array(lags))
            apart = pairs_apart(seconds, starts, most + width)
            each = [float(np.dot(counts[: span - lag], counts[lag:])) for lag in lags]
            np.testing.assert_allclose(apart[: most + 1], each)
            np.testing.assert_allclose(likeness(apart, seconds, starts, span, width, most), plain, atol=1e-9)

    def test_what_never_changes_is_like_itself(self) -> None:
        seconds, starts = np.arange(0, 300, 3), np.ones(100, dtype=np.int64)
        apart = pairs_apart(seconds, starts, 103)
        self.assertTrue((likeness(apart, seconds, starts, 298, 3, 99) == 1).all())
