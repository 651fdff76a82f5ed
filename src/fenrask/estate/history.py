"""What names answered, and when: a table beside the estate (time, name, address), to which every look-up adds."""

import csv
import io
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from fenrask.errors import Place, Problem
from fenrask.prefixes import Address, fewest_prefixes, parse_address

__all__ = ["Answered", "history_text", "read_history", "with_history"]

_COLUMNS = ("time", "name", "address")


@dataclass(frozen=True)
class Answered:
    """One address that a name answered at a time (ISO 8601, UTC)."""

    time: str
    name: str
    address: Address

    @property
    def seconds(self) -> float:
        """Its time in seconds since 1970."""
        when = datetime.fromisoformat(self.time)
        return (when if when.tzinfo else when.replace(tzinfo=UTC)).timestamp()


def read_history(text: str, file: str, problems: list[Problem]) -> list[Answered]:
    """The rows of a history; those that cannot be read go to the problems."""
    found, rows = list[Answered](), csv.DictReader(io.StringIO(text, newline=""))
    for row in rows:
        place = Place(file, rows.line_num, 1)
        said = {key: (row.get(key) or "").strip() for key in _COLUMNS}
        try:
            answer = Answered(said["time"], said["name"], parse_address(said["address"]))
            _ = answer.seconds
        except ValueError as error:
            expected = f"the columns {', '.join(_COLUMNS)}"
            problems.append(Problem(place, str(error), expected, "Correct or remove the line."))
            continue
        found.append(answer)
    return found


def history_text(answers: Iterable[Answered]) -> str:
    """The table as it is written."""
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\n")
    writer.writerow(_COLUMNS)
    writer.writerows((one.time, one.name, str(one.address)) for one in answers)
    return buffer.getvalue()


def with_history(data: Any, answers: Iterable[Answered]) -> Any:
    """The estate with prefixes for destinations that state names alone: all that their names ever answered."""
    destinations = data.get("destinations") if isinstance(data, dict) else None
    if not isinstance(destinations, dict):
        return data
    by_name: dict[str, list[Address]] = {}
    for answer in answers:
        by_name.setdefault(answer.name, []).append(answer.address)
    changed = {}
    for key, stated in destinations.items():
        names = stated.get("names") if isinstance(stated, Mapping) else None
        if not isinstance(names, list) or not isinstance(stated, dict) or stated.get("prefixes"):
            continue
        if union := [address for name in names for address in by_name.get(str(name), ())]:
            changed[key] = {**stated, "prefixes": [str(prefix) for prefix in fewest_prefixes(dict.fromkeys(union))]}
    return {**data, "destinations": {**destinations, **changed}} if changed else data
