"""What to buy and to change when, under growth."""

from fenrask.what_if.schedule.commitments import Taken
from fenrask.what_if.schedule.due import Due
from fenrask.what_if.schedule.later import Later
from fenrask.what_if.schedule.mixes import Change, Schedule, schedule
from fenrask.what_if.schedule.plan import MonthThen, Planned
from fenrask.what_if.schedule.when import Months

__all__ = ["Change", "Due", "Later", "MonthThen", "Months", "Planned", "Schedule", "Taken", "schedule"]
