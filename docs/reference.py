"""The reference of both file formats, written from the models: it cannot drift."""

import json
import re
from collections.abc import Iterator
from typing import Any

from fenrask.checks import RULES
from fenrask.estate import KINDS
from fenrask.estate.schema import json_schema
from fenrask.records.tables import TABLES
from fenrask.views.formats.json_text import VERSION
from fenrask.views.results import ALWAYS, TODAY, declared_results

__all__ = ["reference", "results"]

_HEAD = """\
# The files, key by key

Written from the models by `docs/refresh.py`; the same facts as `fenrask schema`. Every section of an
estate is a mapping keyed by name. A key in **bold** has to be given.

Any section may lie in a CSV file beside the estate, `SECTION_csv: FILE`: the first column is `name`, the
other headings are keys, with dots for keys inside (`tags.cost_centre`) and `[]` behind lists whose entries
have blanks between (`subnets[]`). `route_tables` has a row for each route (`name,to,exit,origin`), and a
row of `profiles` is a name and its multipliers.

What stays outside: the time in which routing protocols converge, load balancers (a published port shares its
connections evenly over the hosts), multicast, hosts' own software, and what a packet carries beside the name that
is asked for. A bill is of one month; months in which an exit is not there are not stated yet.
"""


_RESULTS = """\
# The JSON of every command

Written from `src/fenrask/views/results.yaml` by `docs/refresh.py`; the same facts as `fenrask schema results`, a
JSON Schema (2020-12) for all of it. `--format json` prints one object; its `schema` names one of those below.

**The promise.** `version` is {version}. As long as it does not change, each key below keeps its name, type and meaning.
New keys may be added: ignore those that you do not know. Text for people (`summary`, `detail`, `why`) may be reworded.

Amounts are in the currency of the catalogue and not rounded; shares are from 0 to 1; a key ends in its unit (`_s`,
`_per_s`, `_amount`). A type with "or null" may be unknown, or have no meaning in that row. A key in
*italics* is not in every result. `--table NAME` prints one table of a result alone.
"""


def results() -> str:
    """The page of what commands print as JSON."""
    return "\n".join(_results()) + "\n"


def _results() -> Iterator[str]:
    yield _RESULTS.format(version=VERSION)
    yield "## In every result\n"
    yield from _keys({"schema": "string: which result it is", "version": "integer: of the promise", **ALWAYS})
    yield "\n**`today`**: what is wrong with the estate as it is, where the command is about an estate.\n"
    yield from _keys(TODAY)
    for name, one in declared_results().items():
        calls = " and of ".join(f"`fenrask {call}`" for call in one["from"].split(", "))
        yield f"\n## {name}\n\n`fenrask.{name}`, of {calls}.\n"
        if facts := one.get("facts"):
            yield from _keys(facts)
        for table, keys in one.get("tables", {}).items():
            yield f"\n**`{table}`**, a list of:\n"
            yield from _keys(keys)


def _keys(keys: dict[str, str]) -> Iterator[str]:
    yield "| key | type | what it says |"
    yield "|---|---|---|"
    for key, told in keys.items():
        kind, about = told.split(": ", 1)
        shown = f"*`{key}`*" if kind.startswith("~") else f"`{key}`"
        plain = kind.strip("~?").replace("strings", "list of strings").replace("numbers", "list of numbers")
        yield f"| {shown} | {plain}{' or null' if kind.endswith('?') else ''} | {about} |"


def reference() -> str:
    """The whole page."""
    return "\n".join(_lines()) + "\n"


def _lines() -> Iterator[str]:
    yield _HEAD
    estate, catalogue = json_schema("estate"), json_schema("catalogue")
    exits = {one.__name__: kind for kind, one in KINDS.items()}
    yield "## The estate"
    yield from _table(estate)
    for name, one in estate["$defs"].items():
        if name not in exits:
            yield from _section(name, one)
    yield "\n## Exits"
    yield "\nAn exit has a `kind`; each kind has keys of its own."
    for name, one in estate["$defs"].items():
        if name in exits:
            yield f"\n### `{exits[name]}`\n\n{KINDS[exits[name]].purpose}\n"
            yield from _table(one)
    yield "\n## The catalogue"
    yield from _table(catalogue)
    for name, one in catalogue["$defs"].items():
        yield from _section(name, one)
    yield from _read_tables()
    yield "\n## What `check` finds\n"
    yield "| rule | severity | what it finds | for example |"
    yield "|---|---|---|---|"
    for rule in RULES:
        yield f"| `{rule.name}` | {rule.severity.word} | {rule.about} | `{rule.example}` |"


def _read_tables() -> Iterator[str]:
    yield "\n## Tables that are read beside an estate\n"
    yield "Comma-separated values (RFC 4180) with a heading, known by it; columns may stand in any order, and others"
    yield "beside them. Each example is of the demo's estate."
    for name, one in TABLES.items():
        yield f"\n### {name[0].upper()}{name[1:]}: `fenrask {one.command}`\n\n{one.about[0].upper()}{one.about[1:]}.\n"
        yield "| column | what it says |"
        yield "|---|---|"
        for column, about in one.columns.items():
            shown = f"**`{column}`**" if column in one.needed else f"`{column}`"
            yield f"| {shown} | {about} |"
        yield f"\n```text\n{one.example}```"


def _section(name: str, schema: dict[str, Any]) -> Iterator[str]:
    yield f"\n### {_title(name)}\n"
    if schema.get("description"):
        yield f"{schema['description'].splitlines()[0]}\n"
    yield from _table(schema)


def _table(schema: dict[str, Any]) -> Iterator[str]:
    required = set(schema.get("required", ()))
    yield "\n| key | value | default | meaning |"
    yield "|---|---|---|---|"
    for key, one in schema.get("properties", {}).items():
        shown = f"**`{key}`**" if key in required else f"`{key}`"
        default = "" if key in required or one.get("default") in (None, "", {}, []) else f"`{_yaml(one['default'])}`"
        yield f"| {shown} | {_kind(one)} | {default} | {one.get('description', '')} |".replace("  |", " |")


def _kind(one: dict[str, Any]) -> str:
    """A value's shape in few words."""
    if "const" in one:
        return f"`{one['const']}`"
    if "enum" in one:
        return ", ".join(f"`{each}`" for each in one["enum"])
    if "$ref" in one:
        return _linked(one["$ref"].rsplit("/", 1)[-1])
    for choice in ("anyOf", "oneOf"):
        if choice in one and one.get("type") is None:
            kinds = [_kind(each) for each in one[choice] if each.get("type") != "null"]
            return "an exit" if len(kinds) > 6 else " or ".join(dict.fromkeys(kinds))
    if one.get("type") == "array":
        return f"list of {_kind(one['items'])}" if "items" in one else "list"
    if one.get("type") == "object" and isinstance(one.get("additionalProperties"), dict):
        return f"mapping of {_kind(one['additionalProperties'])}"
    words = {"string": "text", "integer": "whole number", "number": "number", "boolean": "true or false"}
    return words.get(one.get("type", ""), "value")


def _title(name: str) -> str:
    """A model's name as words: `DurationLaw` is "Duration law"."""
    words = re.findall(r"[A-Z][a-z]*|[0-9]+", name)
    return " ".join([words[0], *(word.lower() for word in words[1:])])


def _linked(name: str) -> str:
    title = _title(name)
    return f"[{title.lower()}](#{title.lower().replace(' ', '-')})"


def _yaml(value: Any) -> str:
    """A default as it is written in YAML: numbers that are whole without a point."""
    if isinstance(value, str) and re.fullmatch(r"[0-9.]+", value):
        value = float(value)
    return json.dumps(int(value) if isinstance(value, float) and value.is_integer() else value)
