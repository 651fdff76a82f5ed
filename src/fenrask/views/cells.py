"""Values as people read them, and as machines do."""

from collections.abc import Callable, Sequence
from decimal import Decimal
from enum import Enum
from fractions import Fraction
from typing import Any

from fenrask.units import cents, figure, percent, rough
from fenrask.views.page import Column, Table
from fenrask.views.quoting import visible

__all__ = ["plain", "share_text", "shown", "shown_columns", "sparkline"]

_BARS = "▁▂▃▄▅▆▇"


def shown(column: Column, value: Any) -> str:
    """A value as text for people; nothing at all for None.

    >>> shown(Column("blocking", "no free port", "share"), 0.0123)
    '1.2%'
    """
    if value is None:
        return ""
    if column.kind == "number":
        return f"{float(value):,.{column.decimals}f}"
    return visible(_SHOWN.get(column.kind, str)(value))


def shown_columns(table: Table) -> list[int]:
    """The numbers of the columns that people see: all but sparse ones with nothing in them."""
    return [
        number
        for number, column in enumerate(table.columns)
        if not column.sparse or any(shown(column, row[number]) for row in table.rows)
    ]


def plain(value: Any) -> Any:
    """A value as JSON has it: exact numbers become floats, sequences lists, the rest text."""
    if isinstance(value, Fraction | Decimal):
        return float(value)
    if value is None or isinstance(value, bool | int | float | str):
        return value
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, dict):
        return {str(key): plain(one) for key, one in value.items()}
    if hasattr(value, "tolist"):
        return value.tolist()
    if isinstance(value, Sequence):
        return [plain(one) for one in value]
    return str(value)


def _signed(amount: Fraction) -> str:
    """Money with its sign: +12.30, -4.00, and 0.00 for none."""
    return f"{cents(amount):+,}" if cents(amount) else "0.00"


def sparkline(values: Sequence[float], most: int = 24) -> str:
    """A row of bars, the highest for the largest value; each bar is the largest of those that it stands for.

    >>> sparkline([0, 1, 2, 4]), sparkline([3, 3])
    ('▁▃▄▇', 'constant')
    """
    if max(values, default=0.0) - min(values, default=0.0) <= 1e-12 * max(values, default=0.0):
        return "constant" if any(values) else "none"
    step = -(-len(values) // most)
    merged = [max(values[start : start + step]) for start in range(0, len(values), step)]
    top = max(merged, default=0)
    return "".join(_BARS[round(float(value) / top * (len(_BARS) - 1)) if top else 0] for value in merged)


def share_text(value: float) -> str:
    """A share in per cent with one decimal; machines get all of it."""
    return percent(value)


def _growth(value: float) -> str:
    """A share more or less, with its sign."""
    return f"{100 * value:+,.0f}%"


_SHOWN: dict[str, Callable[[Any], str]] = {
    "count": lambda value: f"{value:,}",
    "figure": figure,
    "rough": rough,
    "code": lambda value: f"{value}",
    "share": lambda value: share_text(float(value)),
    "rate": lambda value: f"{value:f}",
    "money": lambda value: f"{cents(Fraction(value)):,}",
    "growth": _growth,
    "minutes": lambda value: f"{value / 60:,.0f}",
    "difference": _signed,
    "series": sparkline,
    "list": lambda value: ", ".join(map(str, value)),
    "yes": lambda value: "yes" if value else "no",
}
