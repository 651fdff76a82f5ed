"""What to buy when, under growth."""

from fenrask.what_if.schedule.plan import Due, Later, MonthThen, Schedule, day_of, schedule

__all__ = ["Due", "Later", "MonthThen", "Schedule", "day_of", "schedule"]
