"""A drafted estate and its catalogue as YAML: each line says where its values are from; first, what nobody told."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import yaml

from fenrask.errors import Place, UnusableInput
from fenrask.estate import Described, read_estate
from fenrask.records.existing import ASSUMED, CATALOGUE, Assumed, Draft, Files, Steps, loads_of, put_flows
from fenrask.records.measuring import measured_json

__all__ = ["assumed_rows", "draft_files", "drafted_catalogue", "drafted_estate", "place_text", "value_text"]

_ON_ONE_LINE = {
    "networks": 2,
    "subnets": 2,
    "route_tables": 3,
    "exits": 2,
    "destinations": 2,
    "workloads": 2,
    "flows": 2,
}
"""How deep an entry is that stands on one line, by section; the catalogue's are told by `_OF_CATALOGUE`."""
_OF_CATALOGUE = {"offers": 3, "addresses": 2, "transfer": 2}


def draft_files(files: Files, draft: Draft, loads_file: str) -> dict[str, bytes]:
    """The estate, the catalogue and the loads of the records as files, by name; flows are put into the draft.

    UnusableInput where the estate does not hold together.
    """
    contents = {**draft.beside}
    if files.seen is not None:
        described = _read_again(draft, contents)
        loads = loads_of(files, described)
        put_flows(draft, described, loads, files.seen.files, loads_file)
        if loads:
            contents[loads_file] = measured_json(loads)
    _read_again(draft, contents)
    return {**_texts(draft), **contents}


def _texts(draft: Draft) -> dict[str, bytes]:
    estate, catalogue = (
        f"# yaml-language-server: $schema={name}.schema.json\n{text}".encode()
        for name, text in (("estate", drafted_estate(draft)), ("catalogue", drafted_catalogue(draft)))
    )
    return {_ESTATE: estate, str(draft.data["catalogue"]): catalogue}


_ESTATE = "estate.yaml"


def _read_again(draft: Draft, beside: Mapping[str, bytes]) -> Described:
    """The draft as anyone reads it, from files; UnusableInput with where what is wrong was read."""
    with TemporaryDirectory() as folder:
        for name, content in {**_texts(draft), **beside}.items():
            (Path(folder) / name).write_bytes(content)
        try:
            return read_estate(Path(folder) / _ESTATE, to_be_measured=True)
        except UnusableInput as error:
            found = [replace(one, place=_first_place(one.place, draft)) for one in error.problems]
        raise UnusableInput(found)


def _first_place(place: Place, draft: Draft) -> Place:
    """Where a value of the draft was read, by its path in the estate or the catalogue."""
    known = {".".join(steps).removeprefix(f"{CATALOGUE}."): at for steps, at in draft.where.items()}
    longest = max((path for path in known if f"{place.path}.".startswith(f"{path}.")), key=len, default="")
    return Place(known.get(longest, "the draft"), path=place.path)


def drafted_estate(draft: Draft) -> str:
    """The estate, with what was assumed at its top."""
    own = [one for one in draft.assumed if one.steps[0] != CATALOGUE]
    head = [
        "# Drafted from files; each line says from which file and row. What no file says, and what is assumed instead:"
    ]
    head += [f"# - {where}: {value}: {why}" for where, value, why in assumed_rows(own)] or ["# nothing."]
    order = [*draft.data]
    order.sort(key=lambda key: [*_ON_ONE_LINE].index(key) if key in _ON_ONE_LINE else -1)
    sections = {key: draft.data[key] for key in order if draft.data[key] not in ({}, None)}
    return "\n".join([*head, *_lines(sections, (), _ON_ONE_LINE, _Places.of(draft.where))]) + "\n"


def drafted_catalogue(draft: Draft) -> str:
    """The catalogue, likewise."""
    own = [one for one in draft.assumed if one.steps[0] == CATALOGUE]
    head = [
        "# What the provider offers, drafted from files. What no file says, and is assumed: put your provider's in."
    ]
    head += [f"# - {where}: {value}: {why}" for where, value, why in assumed_rows(own)] or ["# nothing."]
    return "\n".join([*head, *_lines(draft.catalogue, (CATALOGUE,), _OF_CATALOGUE, _Places.of(draft.where))]) + "\n"


def assumed_rows(several: Sequence[Assumed]) -> list[tuple[str, str, str]]:
    """Where, which value, and why; what is the same of several entries in one row."""
    alike: dict[tuple[str, str, str, str], list[str]] = {}
    for assumed in several:
        steps = assumed.steps[1:] if assumed.steps[0] == CATALOGUE else assumed.steps
        section = f"catalogue {steps[0]}" if assumed.steps[0] == CATALOGUE else steps[0]
        value = "nothing" if assumed.value is None else _short(value_text(assumed.value))
        names = alike.setdefault((section, " ".join(steps[2:]), value, assumed.why), [])
        names += [name for name in steps[1:2] if name not in names]
    found = []
    for (section, inner, value, why), names in alike.items():
        some = ", ".join(names[:_FEW]) + (f" and {len(names) - _FEW} more" if len(names) > _FEW else "")
        # With blanks between, so that a narrow screen can break it anywhere.
        found.append((" ".join(filter(None, (section, some, inner))), value, why))
    return found


_FEW, _SHORT = 4, 24


def _short(text: str) -> str:
    """What an entry's own line has in full."""
    return text if len(text) <= _SHORT else f"{text[: _SHORT - 4].rpartition(' ')[0] or text[: _SHORT - 4]} ..."


def place_text(steps: Steps) -> str:
    """Where a value is, as a dotted path."""
    return ".".join(steps).replace(f"{CATALOGUE}.", "catalogue.")


def value_text(value: Any) -> str:
    """A value on one line of YAML."""
    text = yaml.safe_dump(value, default_flow_style=True, sort_keys=False, width=10**9, allow_unicode=True)
    return text.removesuffix("\n").removesuffix("\n...")


@dataclass(frozen=True)
class _Places:
    """Where each value is from, by its steps; and the steps of all values inside another."""

    where: Mapping[Steps, str]
    inside: Mapping[Steps, Sequence[Steps]]

    @classmethod
    def of(cls, where: Mapping[Steps, str]) -> "_Places":
        inside: dict[Steps, list[Steps]] = {}
        for steps in where:
            for length in range(1, len(steps)):
                inside.setdefault(steps[:length], []).append(steps)
        return cls(where, inside)


def _lines(whole: Mapping[str, Any], at: Steps, deep: Mapping[str, int], where: _Places) -> Iterator[str]:
    for key, value in whole.items():
        if key in deep and isinstance(value, Mapping):
            yield ""
            yield f"{value_text(key)}:"
            yield from _entries(value, (*at, key), deep[key] - 1, 1, where)
        else:
            yield _line(key, value, (*at, key), 0, where)


def _entries(whole: Mapping[str, Any], at: Steps, depth: int, indent: int, where: _Places) -> Iterator[str]:
    for key, value in whole.items():
        if depth > 1 and isinstance(value, Mapping) and value:
            yield f"{'  ' * indent}{value_text(key)}:"
            yield from _entries(value, (*at, key), depth - 1, indent + 1, where)
        else:
            yield _line(key, value, (*at, key), indent, where)


def _line(key: str, value: Any, at: Steps, indent: int, where: _Places) -> str:
    text = f"{'  ' * indent}{value_text(key)}: {value_text(value)}"
    told = _where(at, where)
    return f"{text}   # {told}" if told else text


def _where(at: Steps, places: _Places) -> str:
    """Where an entry's values are from: the place of most of them, and the keys of which it is another."""
    if at in places.where:
        return places.where[at]
    by_place: dict[str, list[str]] = {}
    for steps in places.inside.get(at, ()):
        by_place.setdefault(places.where[steps], []).append(".".join(steps[len(at) :]))
    if len(by_place) == 1:
        return next(iter(by_place))
    order = sorted(by_place.items(), key=lambda item: (item[0] == ASSUMED, -len(item[1])))
    return "; ".join(f"{', '.join(keys)}: {place}" for place, keys in order)
