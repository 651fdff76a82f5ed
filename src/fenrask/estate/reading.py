"""Files into models: everything that is wrong is reported at once, nothing is guessed."""

import json
import re
from collections.abc import Callable, Collection, Container, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from pydantic import BaseModel, ValidationError

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate.catalogue import Catalogue, Offer
from fenrask.estate.companions import with_dumps, with_measures, with_names_history, with_tables
from fenrask.estate.csv_tables import CsvTree
from fenrask.estate.exits import KINDS, ExitModel, Translating
from fenrask.estate.models import KEPT, Estate, Kept
from fenrask.estate.patches import merge, merge_patch, set_patch
from fenrask.estate.problems import UNKNOWN_KEY, name_problems, offer_problems, referring, validation_problems
from fenrask.estate.suggestions import NONE_DEFINED, nearest
from fenrask.estate.traffic import Traffic
from fenrask.estate.yaml_tree import Tree, read_yaml
from fenrask.inputs import at, file_bytes, is_file
from fenrask.units import exact

__all__ = ["Described", "read_estate", "read_patch"]

MOST_BYTES = 256 * 2**20
Model = TypeVar("Model", bound=BaseModel)
Steps = tuple[str | int, ...]
Layer = Tree | CsvTree


@dataclass(frozen=True)
class Described:
    """An estate and its catalogue, validated; the values as written; and the files they came from."""

    estate: Estate
    catalogue: Catalogue
    data: dict[str, Any]
    catalogue_data: dict[str, Any]
    layers: tuple[Layer, ...]
    catalogue_tree: Tree
    failed: Mapping[str, ExitModel] = field(default_factory=dict)
    """Exits that a case has taken away, as they were: they have failed, where others do not exist."""
    resting: frozenset[str] = frozenset()
    """Of these the ones that are only not in use in this month."""
    parties: frozenset[str] = frozenset()
    """The third parties, and lines, of this estate and of those that it was patched from: flows may name them."""
    preferred: Mapping[str, str] = field(default_factory=dict)
    """By kind of exit the offer that designs are to take, where that is said."""
    centre: str = ""
    """The network that a design is to have its common exit in, where that is said."""
    reused: dict[Hashable, Any] = field(default_factory=dict, compare=False, repr=False)
    """What was worked out of this estate and of those patched from it, by all that it follows from."""

    def __getstate__(self) -> dict[str, Any]:
        """What another process needs of it: not what was worked out of it here."""
        return {one.name: getattr(self, one.name) for one in fields(self)} | {"reused": {}}

    def place(self, *path: str | int) -> Place:
        """Where the value at this path stands: in the last patch that sets it, else in the estate."""
        return _place(self.layers, path)

    @cached_property
    def traffic(self) -> Traffic:
        """The flows as columns; those of an estate that this one was patched from, where they are the same."""
        known: Traffic | None = self.reused.get(_TRAFFIC)
        hours = exact(self.catalogue.hours_per_month)
        of = (hours, self.catalogue.meters == "wire")
        if known is not None and known.is_of(self.estate) and (known.hours_per_month, known.asked_wire) == of:
            return known
        self.reused[_TRAFFIC] = found = Traffic.of(self.estate, *of, known)
        return found

    def offer_of(self, exit_name: str) -> Offer | None:
        """The catalogue's offer behind an exit; None for an exit that needs none, or does not exist."""
        exit_ = self.estate.exits.get(exit_name)
        offer = self.catalogue.offers.get(exit_.offer_name) if exit_ else None
        return self._set.get(exit_name, offer) if offer else None

    def limits_of(self, exit_name: str) -> Offer | None:
        """The same with what limits an exit from its other end; None for an exit that nothing limits."""
        exit_, offer = self.estate.exits.get(exit_name), self.offer_of(exit_name)
        if exit_ is None or exit_.limited_beyond is None:
            return offer
        return exit_.limited_beyond.added_to(offer, exit_.kind)

    @cached_property
    def _set(self) -> dict[str, Offer]:
        """The offers of the exits that set timeouts of their own, with these."""
        return {
            name: offer.model_copy(update={"mapping_timeout_s": offer.mapping_timeout_s.changed(exit_.timeouts)})
            for name, exit_ in self.estate.exits.items()
            if exit_.timeouts and (offer := self.catalogue.offers.get(exit_.offer_name))
        }

    def patched(self, patch: dict[str, Any], name: str) -> "Described":
        """The estate with a merge patch laid over it; UnusableInput where that does not hold together."""
        return self._patched(patch, name, self.failed)

    def _patched(self, patch: dict[str, Any], name: str, failed: Mapping[str, ExitModel]) -> "Described":
        layers = (*self.layers, _patch_tree(patch, name))
        written = _Written(merge(self.data, patch), layers, self.catalogue_data, self.catalogue_tree)
        found = _described(written, [], self, patch)
        gone = {exit_: model for exit_, model in failed.items() if exit_ not in found.estate.exits}
        return replace(found, failed=gone, resting=self.resting & gone.keys()) if gone else found

    def why_gone(self, name: str) -> str:
        """What there is to say of an exit that is not there."""
        if name in self.resting:
            return "is not in use"
        return "has failed" if name in self.failed else "does not exist"

    def without(self, names: Collection[str], patch: dict[str, Any], name: str) -> "Described":
        """The same in a month in which some exits are not in use, which the patch removes."""
        found = self.struck(patch, name)
        return replace(found, resting=found.resting | {one for one in names if one in found.failed})

    def struck(self, patch: dict[str, Any], name: str) -> "Described":
        """The same in a case: exits that the patch removes have failed; cases may go on naming them."""
        gone = [exit_ for exit_, changed in (patch.get("exits") or {}).items() if changed is None]
        models = {one: self.estate.exits[one] for one in gone if one in self.estate.exits}
        unnamed = merge({**patch, "stress": None}, self.naming_none_of(models))
        return self._patched(unnamed, name, {**self.failed, **models})

    def naming_none_of(self, gone: Container[str]) -> dict[str, Any]:
        """The patch that takes exits out of the lists of services that let nothing else in."""
        listed = {name: one.only_through for name, one in self.estate.destinations.items() if one.only_through}
        left = {name: [one for one in some if one not in gone] for name, some in listed.items()}
        changed = {name: {"only_through": left[name]} for name, some in listed.items() if len(left[name]) < len(some)}
        return {"destinations": changed} if changed else {}

    def priced_by(self, file: Path) -> "Described":
        """The same estate at another provider: for each exit its offer of the kind with the least hourly rate.

        UnusableInput where the file is no catalogue, or has no offer of a kind that the estate has.
        """
        problems: list[Problem] = []
        catalogue_data, tree = _read(file, problems)
        catalogue = None if problems else _validated(Catalogue, catalogue_data, tree.place, problems)
        offers: dict[str, dict[str, str]] = {}
        for name, exit_ in self.estate.exits.items() if catalogue else ():
            carried = (exit_.carries or ("",))[0]
            fitting = {
                key: one
                for key, one in (catalogue.offers if catalogue else {}).items()
                if one.kind == exit_.kind and one.leads_to(carried)
            }
            if exit_.offer_name and fitting:
                offers[name] = {"offer": min(fitting, key=lambda key: fitting[key].rates.hour)}
            elif exit_.offer_name:
                expected = f"an offer of kind {exit_.kind!r}, as {name} has"
                problems.append(Problem(tree.place(("offers",)), "none of that kind", expected))
        if problems:
            raise UnusableInput(problems)
        patch = {"exits": offers}
        layers = (*self.layers, _patch_tree(patch, str(file)))
        return _described(_Written(merge(self.data, patch), layers, catalogue_data, tree), [])

    def with_catalogue(self, patch: dict[str, Any]) -> "Described":
        """The estate with a merge patch laid over its catalogue."""
        merged = merge(self.catalogue_data, patch)
        return _described(_Written(self.data, self.layers, merged, self.catalogue_tree), [])


_TRAFFIC = "traffic"
"""Under which the flows as columns are found among what is reused."""


def read_estate(
    path: Path,
    patches: Sequence[Path] = (),
    settings: Sequence[str] = (),
    merged: Sequence[str] = (),
    to_be_measured: bool = False,
) -> Described:
    """Read an estate with its catalogue, patches and single settings (`key.key=value`), in that order.

    merged: settings whose mappings are merged into what is there (RFC 7396); they come last.
    to_be_measured: whether loads may be yet to be measured. Raises UnusableInput with every problem of every file.
    """
    given = [_Setting("--set", text, set_patch) for text in settings]
    given += [_Setting("--merge", text, merge_patch) for text in merged]
    problems: list[Problem] = []
    data, tree = _read(path, problems)
    _check_kind(data, tree)
    layers: list[Layer] = [tree]
    data, tables = with_tables(data, path.parent, lambda steps: _place(layers, steps), problems)
    layers += tables
    for file in patches:
        patch, patch_tree = _read(file, problems)
        data = merge(data, patch) if isinstance(patch, dict) else data
        layers.append(patch_tree)
    for setting in given:
        if not setting.is_of_catalogue:
            data, patch_tree = _set(data, setting, problems)
            layers.append(patch_tree)
    data = with_dumps(data, path.parent, lambda steps: _place(layers, steps), problems)
    data = with_names_history(data, path.parent, lambda steps: _place(layers, steps), problems)
    data = with_measures(data, path.parent, lambda steps: _place(layers, steps), problems, to_be_measured)
    catalogue_data: Any = {}
    catalogue_tree = Tree("", None)
    stated = data.get("catalogue") if isinstance(data, dict) else None
    # Of a list or a mapping the model says so.
    if isinstance(stated, bool | int | float):
        problems.append(Problem(_place(layers, ("catalogue",)), repr(stated), "the name of a file beside the estate"))
    if isinstance(stated, str):
        file = path.parent / stated
        if is_file(file):
            catalogue_data, catalogue_tree = _read(file, problems)
        else:
            near = nearest(stated, sorted(one.name for one in path.parent.glob("*.y*ml") if one != path))
            problems.append(Problem(_place(layers, ("catalogue",)), repr(stated), "a file beside the estate", near))
    for setting in given:
        if setting.is_of_catalogue:
            catalogue_data, _ = _set(catalogue_data, setting, problems)
    return _described(_Written(data, tuple(layers), catalogue_data, catalogue_tree), problems)


def _check_kind(data: Any, tree: Tree) -> None:
    """UnusableInput for a catalogue in the place of the estate, which lacks all of an estate's keys."""
    if isinstance(data, dict) and "offers" in data and not {"estate", "networks", "subnets", "flows"} & {*data}:
        remedy = "Give the estate that refers to it."
        raise UnusableInput([Problem(tree.place(()), "a catalogue", "an estate", remedy)])


def _first_hand(problems: Sequence[Problem]) -> list[Problem]:
    """Without what follows from another one: names of a section that is misspelt, missing or no mapping; a key that
    is missing since it is misspelt; a load that is in no file.
    """
    misspelt = [
        (one.place.path.rpartition(".")[0], name)
        for one in problems
        if one.found == UNKNOWN_KEY
        for name in re.findall(r"'([^']+)'", one.remedy)
    ]
    meant = {name for _, name in misspelt}
    lacking = {one.found.removeprefix("no ").strip("`") for one in problems if one.found.startswith("no `")}
    unfit = {one.place.path for one in problems}

    def follows(problem: Problem) -> bool:
        if problem.remedy == NONE_DEFINED:
            return bool((meant | lacking | unfit) & {*problem.expected.split("`")})
        if problem.found.startswith("no `"):
            # Of the very entry in which it is misspelt: the same key may be missing elsewhere, too.
            return (problem.place.path, problem.found.removeprefix("no ").strip("`")) in misspelt
        return (
            problem.expected.startswith("one of ") and not problem.found and f"{problem.place.path}.measured" in unfit
        )

    return [one for one in problems if not follows(one)]


def read_patch(path: Path) -> dict[str, Any]:
    """A JSON Merge Patch from a file, JSON or YAML; UnusableInput for anything else."""
    problems: list[Problem] = []
    data, tree = _read(path, problems)
    if not isinstance(data, dict):
        problems.append(Problem(tree.place(()), "no mapping", "a JSON Merge Patch (RFC 7396)"))
    if problems:
        raise UnusableInput(problems)
    return dict(data)


class _Written(NamedTuple):
    """An estate as values, and the layers that they came from; its catalogue as values, and its file."""

    data: Any
    layers: tuple[Layer, ...]
    catalogue_data: Any
    catalogue_tree: Tree


def _described(
    written: _Written,
    problems: list[Problem],
    before: Described | None = None,
    patch: Mapping[str, Any] | None = None,
) -> Described:
    """What the values describe; `before` and `patch`: where they are another's with a patch, which is then reused."""
    data, layers, catalogue_data, catalogue_tree = written

    def place_of(path: Steps) -> Place:
        return _place(layers, path)

    catalogue = before.catalogue if before else None
    if catalogue is None and catalogue_tree.file:
        catalogue = _validated(Catalogue, catalogue_data, catalogue_tree.place, problems)
    if isinstance(catalogue_data, dict) and isinstance(catalogue_data.get("offers"), dict):
        problems += offer_problems(data, catalogue_data["offers"], place_of)
        problems += _offer_kinds(catalogue_data["offers"], catalogue_tree)
    # What a patch adds or changes may name what is not there; what it takes away may be missed elsewhere.
    added = data if before is None or patch is None else _to_look_at(before.data, data, patch)
    parties = before.parties if before else frozenset()
    problems += name_problems(data, place_of, added, parties)
    known = _unchanged(before.estate, patch) if before and patch is not None else {}
    estate = _validated(Estate, data, place_of, problems, known)
    if problems or estate is None or catalogue is None:
        raise UnusableInput(sorted(_first_hand(problems), key=lambda p: (p.place.file, p.place.line, p.place.column)))
    if before is not None:
        estate.taking_over(before.estate)
    reused = before.reused if before else {}
    lines = ((name, exit_.party) for name, exit_ in estate.exits.items() if exit_.known_beyond is not None)
    parties |= {party for both in lines for party in both if party}
    return Described(estate, catalogue, data, catalogue_data, layers, catalogue_tree, parties=parties, reused=reused)


def _to_look_at(before: Any, data: Any, patch: Mapping[str, Any]) -> Any:
    """The part of patched data whose names may point to nothing, where those of the data before did not.

    It is the entries that the patch has a word on, and all of the sections that name what it takes away.
    """
    if not isinstance(data, Mapping) or not isinstance(before, Mapping):
        return data
    found = {
        section: {name: data[section][name] for name in entries if name in data[section]}
        if isinstance(entries, Mapping) and isinstance(data[section], Mapping)
        else data[section]
        for section, entries in patch.items()
        if section in data
    }
    fewer = [section for section in patch if section in before and _loses(before[section], data.get(section))]
    return {**found, **{section: data[section] for section in referring(fewer) if section in data}}


def _loses(before: Any, after: Any) -> bool:
    """Whether any entry of a section is gone."""
    return isinstance(before, Mapping) and not (isinstance(after, Mapping) and before.keys() <= after.keys())


def _unchanged(estate: Estate, patch: Mapping[str, Any]) -> dict[str, Mapping[str, BaseModel]]:
    """By section, the entries that a patch leaves as they are: values do not change, so they are not read again."""
    kept: dict[str, Mapping[str, BaseModel]] = {}
    # Months by the calendar are other ones from another month on.
    for section in Estate.model_fields if "first_month" not in patch else ():
        entries, changed = getattr(estate, section), patch.get(section, {})
        if not isinstance(entries, Mapping) or not isinstance(changed, dict):
            continue
        if not changed and section in KEPT:
            kept[section] = Kept(entries)
        else:
            kept[section] = {
                name: one for name, one in entries.items() if isinstance(one, BaseModel) and name not in changed
            }
    return kept


def _validated(
    model: type[Model],
    data: Any,
    place_of: Any,
    problems: list[Problem],
    known: Mapping[str, Mapping[str, BaseModel]] | None = None,
) -> Model | None:
    """The model of some data; `known`: entries of its sections that have been read before."""
    if data is None:
        problems.append(Problem(place_of(()), "an empty file", f"a mapping with `{model.__name__.lower()}`"))
        return None
    try:
        read = {
            section: entries if isinstance(entries, Kept) else {**data[section], **entries}
            for section, entries in (known or {}).items()
            if entries
        }
        # Months by the calendar are counted from the first.
        stated = data.get("first_month") if isinstance(data, Mapping) else None
        first = stated if isinstance(stated, str) else None
        return model.model_validate({**data, **read} if read else data, context={"first_month": first})
    except ValidationError as error:
        problems += validation_problems(model, error, data, place_of)
        return None


def _offer_kinds(offers: dict[str, Any], tree: Tree) -> Iterable[Problem]:
    kinds = {name: model for name, model in KINDS.items() if "offer" in model.model_fields}
    for name, offer in offers.items():
        kind = offer.get("kind") if isinstance(offer, dict) else None
        # A number is read as text, as in every text; what else is no text has its problem already.
        if isinstance(kind, bool) or not isinstance(kind, str | int | float):
            continue
        model = kinds.get(str(kind))
        place = tree.place(("offers", name, "kind"))
        if model is None:
            yield Problem(place, repr(kind), "a kind of exit that is offered", nearest(str(kind), kinds))
        elif issubclass(model, Translating) and "ports" not in offer and not model.may_only_inspect:
            yield Problem(
                tree.place(("offers", name)),
                "no `ports`",
                f"`ports` for an offer of kind {kind!r}",
                "Add ports: {assignment: shared-per-destination, per_address: ...}.",
            )


def _read(path: Path, problems: list[Problem]) -> tuple[Any, Tree]:
    nothing = Tree(str(path), None)
    remedy = "Give the path of an estate, or write a sample with `fenrask demo`."
    content = file_bytes(path, at(Place(str(path)), "a file to read", remedy))
    try:
        text = content.decode("utf-8-sig").replace("\r\n", "\n")
    except UnicodeDecodeError as error:
        problems.append(Problem(Place(str(path)), f"bytes that are not UTF-8 (at {error.start})", "UTF-8 text"))
        return {}, nothing
    data, tree, faults = read_yaml(text, str(path))
    problems += faults
    if faults and data is None:
        raise UnusableInput(problems)
    return data, tree


STANDARD_INPUT = Path("-")
"""The name of an estate that is piped in; files beside it are looked for where the program runs."""
_OF_CATALOGUE = "catalogue."
"""What a setting of the catalogue begins with."""


@dataclass(frozen=True)
class _Setting:
    """One value of the command line: the option, `key=value`, and what makes a patch of them."""

    option: str
    text: str
    patch: Callable[[Any, str, Any], dict[str, Any]]

    @property
    def is_of_catalogue(self) -> bool:
        return self.text.startswith(_OF_CATALOGUE)


def _set(data: Any, setting: _Setting, problems: list[Problem]) -> tuple[Any, Tree]:
    """The data with one value set or merged."""
    whole, equals, value_text = setting.text.partition("=")
    source, key = f"{setting.option} {whole}", whole.removeprefix(_OF_CATALOGUE)
    if not setting.text.isprintable() and any("\ud800" <= one <= "\udfff" for one in setting.text):
        problems.append(Problem(Place(source), "bytes that are not UTF-8", "UTF-8 text"))
        return data, Tree(source, None)
    if not equals or not key:
        found = Place(f"{setting.option} {setting.text}")
        problems.append(Problem(found, "no key=value", "a dotted key, `=` and a value"))
        return data, Tree(source, None)
    value, _, faults = read_yaml(value_text, source)
    problems += faults
    table, *rest = key.split(".")
    if len(rest) > _DEEPEST_KEY:
        problems.append(Problem(Place(source[:80]), f"a key of {len(rest) + 1:,} parts", "a key of the files"))
        return data, Tree(source, None)
    known = data.get(table) if isinstance(data, dict) else None
    if len(rest) > 1 and isinstance(known, dict) and not any(key.startswith(f"{table}.{name}.") for name in known):
        near = nearest(rest[0], list(known))
        if near.startswith("Did you mean"):
            problems.append(Problem(Place(source), repr(rest[0]), f"a name in `{table}`", near))
            return data, Tree(source, None)
    patch = setting.patch(data, key, value)
    return merge(data, patch), _patch_tree(patch, source)


_DEEPEST_KEY = 100
"""Dots of a key that is set: no key of the files lies so deep."""


def _patch_tree(patch: dict[str, Any], source: str) -> Tree:
    """A patch that stands in no file, as a tree that can say what came from it (JSON is YAML)."""
    return read_yaml(json.dumps(patch), source)[1]


def _place(layers: Sequence[Layer], path: Steps) -> Place:
    """The place in the last layer that holds the whole path, else in the first that holds most of it."""
    best: Layer = layers[0]
    depth = -1
    for tree in layers:
        if tree.root is None:
            continue
        reached = tree.find(path)[1]
        if reached > depth or (reached == len(path) and reached == depth):
            best, depth = tree, reached
    return best.place(path)
