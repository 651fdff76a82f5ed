"""What is wrong with an estate as it is, in one sentence before every answer."""

from collections.abc import Collection
from dataclasses import replace

from fenrask.checks.today import Today
from fenrask.estate.suggestions import some
from fenrask.units import counted, percent
from fenrask.views.page import Page

__all__ = ["today_line", "with_today"]

_NAMES = 3


def with_today(page: Page, today: Today, told: Collection[str] = (), of: str = "") -> Page:
    """The page with what is wrong today before all else; nothing where all is well.

    told: what of it the page says itself: `lost` flows, `unmet` needs, `short` exits; `covered` where what follows is
    of other estates. of: which other estate it is.
    """
    facts = {
        "errors_today": len(today.errors),
        "lost_flows": [*today.lost],
        "flows_with_broken_needs": [*today.unmet],
        "overloaded_exits": [*today.short],
        "load_covered": today.covered,
    }
    line = today_line(today, told, of)
    kept = page.facts if of else {**page.facts, "today": facts}
    return replace(page, summary=(*([line] if line else []), *page.summary), facts=kept)


def today_line(today: Today, told: Collection[str] = (), of: str = "") -> str:
    """What is wrong today in one sentence; empty where all is well, or the page says it: see `with_today`."""
    parts = []
    if today.lost and "lost" not in told:
        parts.append(_lost(today))
    if today.unmet and "unmet" not in told:
        breaks = "breaks a need" if len(today.unmet) == 1 else "break a need"
        parts.append(f"{len(today.unmet)} {breaks} ({some(today.unmet, _NAMES)})")
    if today.short and "short" not in told:
        carry = "does not carry its load" if len(today.short) == 1 else "do not carry their load"
        parts.append(f"{some(today.short, _NAMES)} {carry}")
    if not (today.lost or today.unmet or today.short) and today.errors:
        places = [f"{rule} at {place}" for rule, place in today.errors]
        parts.append(some(places, 2))
    if not parts:
        return ""
    covers = ""
    if today.lost and {"lost", "covered"}.isdisjoint(told):
        covers = f"; what follows covers {percent(today.covered)} of the load"
    hint = "" if of else " (see check)"
    what = counted(len(today.errors), "error") if today.errors else "Accepted"
    return f"{what} {of or 'today'}{hint}: {', '.join(parts)}{covers}."


def _lost(today: Today) -> str:
    """How many flows do not arrive, which, and why, where all have one reason."""
    number = len(today.lost)
    names = [name if part == 1 else f"{name} in part" for name, part in today.lost.items()]
    why = f": {today.reasons[0]}" if len(today.reasons) == 1 else ""
    arrive = "does not arrive" if number == 1 else "do not arrive"
    return f"{number} of {counted(today.flows, 'flow')} {arrive} ({some(names, _NAMES)}{why})"
