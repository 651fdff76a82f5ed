"""What to buy and to change when, under growth."""

from fenrask.what_if.schedule.commitments import Taken
from fenrask.what_if.schedule.mixes import Change, Schedule, schedule
from fenrask.what_if.schedule.plan import Due, Later, MonthThen, Planned, day_of

__all__ = ["Change", "Due", "Later", "MonthThen", "Planned", "Schedule", "Taken", "day_of", "schedule"]
