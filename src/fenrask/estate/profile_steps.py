"""How long each multiplier of a load profile holds: profiles divide a day, or a week, into equal steps."""

from fenrask.units import SECONDS_PER_DAY, SECONDS_PER_HOUR

__all__ = ["MOST_STEPS", "step_of"]

_LEAST_STEP_S, _MOST_STEP_S = 60, 2 * SECONDS_PER_HOUR
MOST_STEPS = 7 * SECONDS_PER_DAY // _LEAST_STEP_S
"""Those of a week, minute by minute."""


def step_of(multipliers: int) -> int | None:
    """Seconds of each of so many: of a day where they are even parts of hours, or hours, else of a week; or None.

    >>> step_of(24), step_of(168), step_of(288), step_of(336), step_of(25)
    (3600, 3600, 300, 1800, None)
    """
    for period_s in (SECONDS_PER_DAY, 7 * SECONDS_PER_DAY):
        step_s, rest = divmod(period_s, max(1, multipliers))
        whole = not rest and (not SECONDS_PER_HOUR % step_s or not step_s % SECONDS_PER_HOUR)
        if whole and _LEAST_STEP_S <= step_s <= _MOST_STEP_S:
            return step_s
    return None
