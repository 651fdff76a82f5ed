"""The kinds of value that the files hold, each with its check and its words for what is expected."""

import re
from collections.abc import Iterable
from datetime import date
from decimal import Decimal
from typing import Annotated, Any, TypeVar

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema
from pydantic_core import PydanticCustomError

from fenrask.prefixes import Address, Prefix, parse_address, parse_prefix

__all__ = [
    "AddressText",
    "Count",
    "Day",
    "MOST",
    "Money",
    "HostName",
    "LAST_PORT",
    "Number",
    "PortNumber",
    "PrefixText",
    "Share",
    "Strict",
    "Uncertain",
    "UncertainGrowth",
    "UncertainNumber",
    "UncertainWhole",
    "unfit",
    "without_empty_lists",
]


class Strict(BaseModel):
    """A part of a file: unknown keys are errors, values do not change, bare numbers may serve as names."""

    model_config = ConfigDict(
        extra="forbid",
        frozen=True,
        coerce_numbers_to_str=True,
        allow_inf_nan=False,
        # A validator is built when a file is read, not when its class is imported: most are only ever
        # parts of the two whole ones.
        defer_build=True,
    )


def unfit(expected: str, remedy: str = "", below: tuple[str, ...] = ()) -> PydanticCustomError:
    """The error to raise from a validator: what was expected, how to mend it, and the keys down to what is wrong."""
    return PydanticCustomError("unfit", "{expected}", {"expected": expected, "remedy": remedy, "below": below})


Rule = TypeVar("Rule", bound=BaseModel)


def without_empty_lists(rule: Rule, keys: Iterable[str]) -> Rule:
    """A rule as it is; an error where a list is given and empty, since it could mean nothing or anything."""
    if empty := [key for key in keys if key in rule.model_fields_set and not getattr(rule, key)]:
        raise unfit(f"at least one entry in `{empty[0]}`, or no such key", f"Remove `{empty[0]}`, or say what it is.")
    return rule


def _prefix(value: Any) -> Prefix:
    if isinstance(value, str):
        try:
            return parse_prefix(value)
        except ValueError as error:
            raise unfit(str(error)) from None
    raise unfit("a prefix such as 10.40.1.0/24")


def _address(value: Any) -> Address:
    if isinstance(value, str):
        try:
            return parse_address(value)
        except ValueError as error:
            raise unfit(str(error)) from None
    raise unfit("an address such as 203.0.113.7")


def _money(value: Any) -> Any:
    if isinstance(value, bool | str):
        raise unfit("a number")
    return value


def _day(value: Any) -> date:
    try:
        return date.fromisoformat(value)
    except (TypeError, ValueError):
        raise unfit("a date such as 2026-09-01") from None


def _host_name(text: str) -> str:
    if _NO_NAME.search(text) or not text or len(text) > 253:
        bare = text.partition("://")[2].partition("/")[0].partition(":")[0] if "://" in text else ""
        raise unfit("a name that DNS knows, such as pay.partner.example", f"Write {bare}." if bare else "")
    return text


_NO_NAME = re.compile(r"[^\w.*-]|\.\.")
"""What is in no name of a host: blanks, colons, slashes (RFC 1035, 2.3.1; internationalised ones are let pass)."""
_TEXT = {"type": "string"}
PrefixText = Annotated[Any, BeforeValidator(_prefix), WithJsonSchema({**_TEXT, "examples": ["10.40.1.0/24"]})]
AddressText = Annotated[Any, BeforeValidator(_address), WithJsonSchema({**_TEXT, "examples": ["203.0.113.7"]})]
HostName = Annotated[str, AfterValidator(_host_name)]
Day = Annotated[date, BeforeValidator(_day), WithJsonSchema({**_TEXT, "format": "date"})]
MOST = 10**15
"""No number of a file is larger: what follows from two or three of them is a number still."""
Count = Annotated[int, Field(strict=True, ge=0, le=MOST)]
Number = Annotated[float, Field(strict=True, ge=0, le=MOST)]


def _likely(value: Any) -> Any:
    """The likely value of a range `{low, likely, high}`; anything else as it is."""
    if not isinstance(value, dict):
        return value
    low, likely, high = _bounds(value)
    if not 0 < low <= likely <= high <= MOST:
        raise unfit(f"0 < low <= likely <= high <= {MOST:,}" if high > MOST else "0 < low <= likely <= high")
    return likely


def _likely_of_any(value: Any) -> Any:
    """The same of a range whose numbers may be below 0."""
    if not isinstance(value, dict):
        return value
    low, likely, high = _bounds(value)
    if not -MOST <= low <= likely <= high <= MOST:
        most = f", from {-MOST:,} to {MOST:,}" if max(high, -low) > MOST else ""
        raise unfit(f"low <= likely <= high{most}")
    return likely


def _bounds(value: dict[str, Any]) -> list[Any]:
    """The three numbers of a range."""
    if set(value) - {"together"} != {"low", "likely", "high"}:
        raise unfit("a number, or a range with low, likely and high")
    if not isinstance(value.get("together", ""), str):
        raise unfit("a name for what ranges move together with")
    numbers = [value[key] for key in ("low", "likely", "high")]
    if any(isinstance(one, bool) or not isinstance(one, int | float) for one in numbers):
        raise unfit("numbers for low, likely and high")
    return numbers


def _range(**bounds: int) -> dict[str, Any]:
    """The schema of a range whose numbers have these bounds."""
    return {
        "type": "object",
        "properties": {
            **{key: {"type": "number", **bounds} for key in ("low", "likely", "high")},
            "together": {"type": "string", "description": "what binds ranges that move together, by name"},
        },
        "required": ["low", "likely", "high"],
        "additionalProperties": False,
    }


_RANGE = _range(minimum=0)
Uncertain = Annotated[
    float,
    BeforeValidator(_likely),
    Field(strict=True, ge=0, le=MOST),
    WithJsonSchema({"anyOf": [{"type": "number", "minimum": 0}, _RANGE]}),
]
"""A number, or a range of which low and high are the 5th and the 95th percentile; the plan takes what is likely."""
UncertainGrowth = Annotated[
    float,
    BeforeValidator(_likely),
    Field(strict=True, ge=-1, le=3),
    WithJsonSchema({"anyOf": [{"type": "number", "minimum": -1, "maximum": 3}, _RANGE]}),
]
"""A share by which something grows each month, or a range of it, as `Uncertain`."""
UncertainNumber = Annotated[
    float,
    BeforeValidator(_likely_of_any),
    Field(strict=True, ge=-MOST, le=MOST),
    WithJsonSchema({"anyOf": [{"type": "number"}, _range()]}),
]
"""A number that may be below 0, or a range of such, as `Uncertain`."""
UncertainWhole = Annotated[
    int,
    BeforeValidator(_likely_of_any),
    Field(strict=True, ge=-MOST, le=MOST),
    WithJsonSchema({"anyOf": [{"type": "integer"}, _range()]}),
]
"""The same of a whole number."""
Share = Annotated[float, Field(strict=True, ge=0, le=1)]
LAST_PORT = 65_535
PortNumber = Annotated[int, Field(strict=True, ge=1, le=LAST_PORT)]
Money = Annotated[Decimal, BeforeValidator(_money), Field(ge=0), WithJsonSchema({"type": "number", "minimum": 0})]
