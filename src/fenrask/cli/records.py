"""Which column of a table of records is which field: the option of all commands that read some."""

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated

import typer

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import read_patch
from fenrask.records.batch import Unread
from fenrask.records.readers import EMPTY, FIELDS

__all__ = ["Columns", "check_some", "columns_of"]

Columns = Annotated[
    list[str] | None,
    typer.Option(
        "--map",
        metavar="FIELD=COLUMN|FILE",
        help=f"Of a table: the column of a field ({', '.join(FIELDS)}), or a YAML file that says so for several; "
        "may be repeated.",
    ),
]


def check_some(formats: Mapping[str, str], unread: Unread) -> None:
    """UnusableInput where all files are empty, and none because it breaks off; formats: of each file."""
    if set(formats.values()) == {EMPTY} and not unread.broken_off:
        raise UnusableInput([Problem(Place(file), "an empty file", "records of connections") for file in formats])


def columns_of(words: list[str]) -> dict[str, str]:
    """The columns as stated: one by one, or in files; what is said later wins."""
    found: dict[str, str] = {}
    for word in words:
        field, is_one, column = word.partition("=")
        found |= {field: column} if is_one else _saved_map(Path(word))
    wrong = [
        Problem(Place(path="--map"), repr(field), f"FIELD=COLUMN, with one of {', '.join(FIELDS)}")
        for field, column in found.items()
        if field not in FIELDS or not column
    ]
    if wrong:
        raise UnusableInput(wrong)
    return found


def _saved_map(file: Path) -> dict[str, str]:
    said = read_patch(file)
    if not isinstance(said, dict):
        raise UnusableInput([Problem(Place(str(file)), type(said).__name__, "a mapping of fields to columns")])
    return {str(field): str(column) for field, column in said.items()}
