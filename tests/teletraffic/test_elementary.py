"""Functions without cancellation against fifty decimal digits of the standard library."""

import unittest
from decimal import Decimal, getcontext
from math import pi

import numpy as np

from fenrask.teletraffic.elementary import log1pmx, stirling_error

_PI = Decimal("3.14159265358979323846264338327950288419716939937510")


class Elementary(unittest.TestCase):
    def setUp(self) -> None:
        before = getcontext().prec
        self.addCleanup(lambda: setattr(getcontext(), "prec", before))
        getcontext().prec = 50

    def test_log1pmx(self) -> None:
        near = [1e-9, -1e-9, 0.003, -0.04, 0.25, -0.3, 0.49, -0.49]
        for some in (near[:2], near[:4], near, [*near, 0.7, 3.0, 250.0, -0.9]):
            expected = [float((1 + Decimal(x)).ln() - Decimal(x)) for x in some]
            np.testing.assert_allclose(log1pmx(np.array(some)), expected, rtol=1e-14)

    def test_stirling_error(self) -> None:
        self.assertAlmostEqual(float(_PI), pi, places=15)
        for n in (16, 17, 25, 60, 400):
            factorial = sum((Decimal(k).ln() for k in range(2, n + 1)), Decimal(0))
            main = n * Decimal(n).ln() - n + (2 * _PI * n).ln() / 2
            self.assertAlmostEqual(
                float(stirling_error(np.array(float(n)))) / float(factorial - main), 1.0, delta=2e-15
            )
