"""An estate written back as YAML, and made into another one: new names, prefixes moved."""

from collections.abc import Iterator, Mapping
from typing import Any

import yaml

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate.rows import Rows
from fenrask.estate.suggestions import nearest, some
from fenrask.prefixes import Prefix, covers, parse_address, parse_prefix

__all__ = ["estate_text", "renamed", "without_its_own"]

_SECTIONS = (
    "networks",
    "subnets",
    "route_tables",
    "exits",
    "public_addresses",
    "destinations",
    "workloads",
    "flows",
    "profiles",
    "stress",
)
_PLAIN = frozenset(
    {"kind", "offer", "names", "tags", "estate", "catalogue", "third_party", "class", "protocol", "action", "origin"}
)
"""Keys whose values are words of their own, never a name of the estate."""
_MAP_KEYS = ("estate", "names", "prefixes", "zones", "regions")


class _Plain(yaml.SafeDumper):
    """Writes short lists on one line, and no aliases."""

    def ignore_aliases(self, data: Any) -> bool:
        return True


def _sequence(dumper: _Plain, value: Any) -> yaml.Node:
    short = all(not isinstance(one, dict | list) for one in value)
    return dumper.represent_sequence("tag:yaml.org,2002:seq", value, flow_style=short)


def _rows(dumper: _Plain, value: Rows) -> yaml.Node:
    return dumper.represent_dict({**value})


_Plain.add_representer(list, _sequence)
_Plain.add_representer(Rows, _rows)


def estate_text(data: Mapping[str, Any]) -> str:
    """The whole estate as YAML, companion tables and patches merged in, in the order it was written."""
    whole = {key: value for key, value in data.items() if not key.endswith("_csv")}
    return yaml.dump(whole, Dumper=_Plain, sort_keys=False, allow_unicode=True, width=110)


def renamed(data: Mapping[str, Any], mapping: Any, file: str) -> dict[str, Any]:
    """The estate with new names, zones and regions, and with addresses moved from prefix to prefix.

    `mapping`: `estate`, the new estate's name; `names`, `zones`, `regions`, old to new; `prefixes`, old to new of the
    same length. UnusableInput with every problem of it.
    """
    problems = list(_problems(data, mapping, file))
    if problems:
        raise UnusableInput(problems)
    names = {str(old): str(new) for old, new in (mapping.get("names") or {}).items()}
    moves = [(parse_prefix(old), parse_prefix(new)) for old, new in (mapping.get("prefixes") or {}).items()]
    words = {"zone": mapping.get("zones") or {}, "region": mapping.get("regions") or {}}
    whole: dict[str, Any] = _renamed({**data}, "", names, moves, words)
    if mapping.get("estate"):
        whole["estate"] = str(mapping["estate"])
    return whole


def without_its_own(
    data: Mapping[str, Any], moves: Mapping[Any, Any] | None = None
) -> tuple[dict[str, Any], list[str]]:
    """The estate without what is one deployment's alone, and what was taken out, in words.

    Public addresses become as many to be given, unless `moves` has new ones for them; cost centres, addresses paid for
    by name and what partners allow today go.
    """
    whole, told = {**data}, list[str]()
    moved = [parse_prefix(str(old)) for old in moves or {}]
    exits = {name: {**exit_} for name, exit_ in (whole.get("exits") or {}).items()}
    counted = []
    for name, exit_ in exits.items():
        listed = exit_.get("addresses")
        kept = isinstance(listed, list) and all(
            any(covers(old, parse_prefix(str(one))) for old in moved) for one in listed
        )
        if isinstance(listed, list) and not kept:
            exit_["addresses"] = len(listed)
            counted.append(name)
    whole["exits"] = exits
    if counted:
        told.append(f"public addresses of {some(counted)}: their number is kept")
    for section in ("subnets", "workloads"):
        entries = {name: {**one} for name, one in (whole.get(section) or {}).items()}
        tagged = [name for name, one in entries.items() if "cost_centre" in (one.get("tags") or {})]
        for name in tagged:
            tags = {key: value for key, value in entries[name]["tags"].items() if key != "cost_centre"}
            entries[name] = {key: value for key, value in entries[name].items() if key != "tags"} | (
                {"tags": tags} if tags else {}
            )
        if tagged:
            whole[section] = entries
            told.append(f"cost centres of {some(tagged)}")
    if whole.pop("public_addresses", None):
        told.append("public_addresses")
    allowed = [name for name, one in (whole.get("destinations") or {}).items() if one.get("allowed")]
    if allowed:
        whole["destinations"] = {
            name: {key: value for key, value in one.items() if key != "allowed"}
            for name, one in whole["destinations"].items()
        }
        told.append(f"what {some(allowed)} allow today")
    return whole, told


def _problems(data: Mapping[str, Any], mapping: Any, file: str) -> Iterator[Problem]:
    if not isinstance(mapping, Mapping):
        yield Problem(Place(file), "no mapping", f"a mapping of {', '.join(_MAP_KEYS)}")
        return
    for key in mapping:
        if key not in _MAP_KEYS:
            yield Problem(Place(file, path=str(key)), repr(key), f"one of {', '.join(_MAP_KEYS)}")
    known = [str(name) for section in _SECTIONS for name in (data.get(section) or {})]
    for section in ("names", "prefixes", "zones", "regions"):
        if not isinstance(mapping.get(section) or {}, Mapping):
            yield Problem(Place(file, path=section), "no mapping", "a mapping from old to new")
            return
    yield from _name_problems(known, mapping.get("names") or {}, file)
    yield from _prefix_problems(mapping.get("prefixes") or {}, file)


def _name_problems(known: list[str], names: Mapping[Any, Any], file: str) -> Iterator[Problem]:
    for old, new in names.items():
        if str(old) not in known:
            yield Problem(Place(file, path=f"names.{old}"), repr(old), "a name of the estate", nearest(str(old), known))
        if str(new) in known and str(new) not in map(str, names):
            yield Problem(Place(file, path=f"names.{old}"), repr(new), "a name that the estate does not have yet")


def _prefix_problems(prefixes: Mapping[Any, Any], file: str) -> Iterator[Problem]:
    for old, new in prefixes.items():
        try:
            if parse_prefix(str(old)).prefixlen != parse_prefix(str(new)).prefixlen:
                raise ValueError("two prefixes of the same length")
        except ValueError as error:
            yield Problem(Place(file, path=f"prefixes.{old}"), f"{old}: {new}", str(error))


def _renamed(
    value: Any,
    key: str,
    names: Mapping[str, str],
    moves: list[tuple[Prefix, Prefix]],
    words: Mapping[str, Mapping[str, str]],
) -> Any:
    if isinstance(value, Mapping):
        return {
            (one if key in _PLAIN else _text(str(one), "", names, moves, words)): _renamed(
                inner, str(one), names, moves, words
            )
            for one, inner in value.items()
        }
    if isinstance(value, list | tuple):
        return [_renamed(one, key, names, moves, words) for one in value]
    return _text(value, key, names, moves, words) if isinstance(value, str) and key not in _PLAIN else value


def _text(
    text: str,
    key: str,
    names: Mapping[str, str],
    moves: list[tuple[Prefix, Prefix]],
    words: Mapping[str, Mapping[str, str]],
) -> str:
    if key in words:
        return words[key].get(text, text)
    if text in names:
        return names[text]
    return _moved(text, moves) if moves and text[:1].isalnum() and ("." in text or ":" in text) else text


def _moved(text: str, moves: list[tuple[Prefix, Prefix]]) -> str:
    """An address or a prefix inside an old prefix, at the same offset in the new one; anything else as it is."""
    try:
        prefix = parse_prefix(text)
    except ValueError:
        return text
    for old, new in moves:
        if covers(old, prefix):
            offset = int(prefix.network_address) - int(old.network_address)
            moved = parse_address(str(new.network_address)) + offset
            return f"{moved}/{prefix.prefixlen}" if "/" in text else str(moved)
    return text
