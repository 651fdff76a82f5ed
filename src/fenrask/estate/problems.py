"""Validation errors told in the user's words, with places; and names that point nowhere."""

import re
from collections.abc import Callable, Collection, Iterator, Mapping
from decimal import Decimal
from typing import Any, get_args

from pydantic import BaseModel, ValidationError

from fenrask.errors import Place, Problem
from fenrask.estate.exits import KINDS, PrivateLine
from fenrask.estate.ports import PORTS
from fenrask.estate.remotes import INTERNET
from fenrask.estate.rows import Rows
from fenrask.estate.suggestions import nearest, some
from fenrask.prefixes import parse_prefix

__all__ = ["UNKNOWN_KEY", "name_problems", "offer_problems", "validation_problems"]

_DECIMAL_COMMA = re.compile(r"[+-]?\d+,\d+")
_THOUSANDS = re.compile(r"[+-]?[1-9]\d{0,2}(,\d{3})+")
_PER_CENT = re.compile(r"([+-]?\d+(?:\.\d+)?)\s*%")
_WITH_MORE = re.compile(r"([+-]?\d+(?:\.\d+)?)\s*[^\d\s.,%]\D*")
Path = tuple[str | int, ...]
PlaceOf = Callable[[Path], Place]

_EXPECTED = {
    "bool_parsing": "true or false",
    "bool_type": "true or false",
    "decimal_parsing": "a number",
    "decimal_type": "a number",
    "dict_type": "a mapping of names",
    "finite_number": "a finite number",
    "float_type": "a number",
    "int_type": "a whole number",
    "model_attributes_type": "a mapping of keys",
    "model_type": "a mapping of keys",
    "string_type": "text",
    "tuple_type": "a list",
}


_RENAMED = {
    "rhythms": "profiles",
    "rhythms_csv": "profiles_csv",
    "rhythm": "profile",
    "life_s": "duration_s",
    "people": "users",
    "connections_per_person": "connections_per_user",
    "pool_per_host": "persistent_per_host",
    "most_per_host": "max_per_host",
    "orderly_share": "closed_share",
    "variation": "cv",
    "refused_share": "blocking",
    "growth_room": "growth_margin",
    "rates_up": "load_up",
    "release_s": "mapping_timeout_s",
    "most_block": "max_block",
    "noted": "read_on",
    "forwarded": "sources: any` for true, `sources: own",
    "use_exits": "exits_open_to: [NETWORK, ...]",
    "translation": "rewrites_toward: [public, private]` for always, `[public]` for public-only, `[]",
}
"""Keys of earlier files, with what they are called now."""


def validation_problems(model: type[BaseModel], error: ValidationError, data: Any, place_of: PlaceOf) -> list[Problem]:
    """Every validation error as a problem: the place of the value, what was found and expected."""
    return [
        _problem(model, details, data, place_of)
        for details in error.errors(include_url=False)
        # A list whose entries are all unfit is reported by its entries, not as too short as well.
        if not (details["type"] == "too_short" and details["input"])
    ]


UNKNOWN_KEY = "an unknown key"


def _problem(model: type[BaseModel], details: Any, data: Any, place_of: PlaceOf) -> Problem:
    kind, context = details["type"], details.get("ctx", {})
    path = _path_in(data, details["loc"], missing=kind == "missing")
    place, found = place_of(path), _shown(details["input"])
    if kind == "missing":
        about = _described(model, path)
        return Problem(place_of(path[:-1]), f"no `{path[-1]}`", about, "" if about else "Add it.")
    if kind == "extra_forbidden":
        return _unknown_key(place, str(path[-1]), _keys_at(model, path[:-1], data))
    if kind in ("union_tag_invalid", "union_tag_not_found"):
        return _unknown_kind(place, str(context["discriminator"]).strip("'"), details["input"])
    if kind == "literal_error":
        return _unknown_word(place, details["input"], context["expected"])
    if kind == "unfit":
        # Of several keys together the sentence names those that do not fit.
        found = "" if isinstance(details["input"], Mapping) else found
        return Problem(place_of((*path, *context["below"])), found, context["expected"], context["remedy"])
    if path[:1] == ("route_tables",) and kind in ("model_type", "string_type"):
        several = kind == "model_type"
        return Problem(place, found, "an exit as `{exit: NAME}`, where a route has several" if several else "an exit")
    if kind == "too_short":
        found = "an empty list"
    expected = _expected(kind, context) or details["msg"].removeprefix("Input should be ").lower()
    meaning = _described(model, path)
    written = _written(expected, details["input"]) if path[:1] != ("profiles",) else ""
    return Problem(place, found, expected, written or (f"`{path[-1]}`: {meaning}." if meaning else ""))


def _written(expected: str, stated: Any) -> str:
    """How to write what is not written as it should be; empty where that cannot be told."""
    if not isinstance(stated, str) or expected not in ("a list", "a number", "a whole number"):
        return ""
    text = stated.strip()
    if expected == "a list":
        return f"Write `- {text[1:]}`, with a space after the dash." if text[:1] == "-" else f"Write [{text}]."
    if _THOUSANDS.fullmatch(text):
        return f"Write {text.replace(',', '')}: digits alone."
    if _DECIMAL_COMMA.fullmatch(text):
        return f"Write {text.replace(',', '.')}: with a point, no comma."
    if found := _PER_CENT.fullmatch(text):
        return f"Write {float(Decimal(found[1]) / 100):g}: a share, not per cent."
    if found := _WITH_MORE.fullmatch(text):
        return f"Write {found[1]}: the number alone."
    return ""


def _unknown_key(place: Place, key: str, known: Collection[str]) -> Problem:
    if key in _RENAMED:
        new = _RENAMED[key]
        return Problem(place, f"the old key {key!r}", f"`{new.split(':')[0]}`", f"Write `{new}`.")
    before, colon, value = key.partition(":")
    if colon and before in known:
        return Problem(place, UNKNOWN_KEY, "", f"Write `{before}: {value}`, with a space after the colon.")
    return Problem(place, UNKNOWN_KEY, "", nearest(key, known))


def _unknown_kind(place: Place, tag: str, stated: Any) -> Problem:
    """An entry whose kind, or port assignment, is none or lacking."""
    word = stated.get(tag) if isinstance(stated, Mapping) else None
    found = f"the {tag} {word!r}" if word else f"no `{tag}`"
    if tag == "assignment":
        return Problem(place, found, "a port assignment", nearest(str(word), PORTS))
    if word == "lent-address":
        return Problem(place, found, "the kind 'dynamic-address'", "Write `kind: dynamic-address`.")
    return Problem(place, found, "a kind of exit", nearest(str(word), KINDS))


def _unknown_word(place: Place, stated: Any, expected: str) -> Problem:
    choices = [one.strip().strip("'") for one in expected.replace(" or ", ", ").split(",")]
    if choices == ["auto"]:
        return Problem(place, _shown(stated), "auto, a number of addresses, or a list of addresses")
    return Problem(place, _shown(stated), f"one of {', '.join(choices)}", nearest(str(stated), choices))


_LONG = 1_000_000
"""From here on the digits of a bound are parted."""


def _expected(kind: str, context: Mapping[str, Any]) -> str | None:
    for limit, word in (("ge", "at least"), ("gt", "more than"), ("le", "at most"), ("lt", "less than")):
        if limit in context:
            bound = context[limit]
            return f"a number, {word} {f'{bound:,.0f}' if bound >= _LONG else f'{bound:g}'}"
    if kind == "too_short":
        return f"at least {context['min_length']} of them"
    return _EXPECTED.get(kind)


def _path_in(data: Any, location: Path, missing: bool) -> Path:
    """The location without the names of union branches, which are no part of the file.

    The last step of a missing key is no part of it either, but has to be told.
    """
    if missing:
        return (*_path_in(data, location[:-1], missing=False), location[-1])
    path, rest = _taken(data, location), location
    # A branch may have the name of a key that stands there too: then it is left out, if that leads to the end.
    for number, step in enumerate(path):
        if path[-1] != location[-1] and rest.count(step) == 1:
            without = _taken(data, (*location[:number], *location[number + 1 :]))
            if without[-1:] == location[-1:]:
                return without
    return path


def _taken(data: Any, location: Path) -> Path:
    """The steps of a location that lead anywhere, each from where the ones before it led."""
    path, here = list[str | int](), data
    for step in location:
        if isinstance(here, Mapping) and step in here:
            here = here[step]
        elif isinstance(here, list) and step in range(len(here)):
            here = here[int(step)]
        else:
            continue
        path.append(step)
    return tuple(path)


def _shown(value: Any) -> str:
    if isinstance(value, Mapping):
        return "a mapping"
    if isinstance(value, list):
        return "a list"
    if value is None:
        return "nothing"
    text = repr(value)
    return text if len(text) <= 60 else f"{text[:57]}..."


def _models_at(model: type[BaseModel], path: Path, data: Any) -> Iterator[type[BaseModel]]:
    """The models that describe the value at `path`, found by walking field annotations."""
    if not path:
        yield model
        return
    step, rest = path[0], path[1:]
    inner = data.get(step) if isinstance(data, Mapping) else None
    field = next((f for n, f in model.model_fields.items() if step in (n, f.alias)), None)
    if field is None:
        return
    if step == "exits" and rest and isinstance(inner, Mapping):
        stated = inner.get(rest[0])
        kind = KINDS.get(stated.get("kind", "")) if isinstance(stated, Mapping) else None
        if kind:
            yield from _models_at(kind, rest[1:], stated)
        return
    for inner_model in _models_in(field.annotation):
        # A mapping or list of models takes one more step (the name) before the model's own keys; of others, more.
        skip = _levels(field.annotation)
        if len(rest) >= skip:
            yield from _models_at(inner_model, rest[skip:], None)


def _levels(annotation: Any) -> int:
    """How many mappings or lists stand around the models of an annotation: at least so many steps lead to one."""
    if getattr(annotation, "__origin__", None) not in (dict, tuple, list):
        return 0
    return 1 + min((_levels(part) for part in get_args(annotation)[-1:] if [*_models_in(part)]), default=0)


def _models_in(annotation: Any) -> Iterator[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        yield annotation
    for part in get_args(annotation):
        yield from _models_in(part)


def _keys_at(model: type[BaseModel], path: Path, data: Any) -> list[str]:
    keys = [f.alias or n for one in _models_at(model, path, data) for n, f in one.model_fields.items()]
    return [*dict.fromkeys(keys)]


def _described(model: type[BaseModel], path: Path) -> str:
    for inner_model in _models_at(model, path[:-1], {}) if path else ():
        for name, field in inner_model.model_fields.items():
            if path[-1] in (name, field.alias) and field.description:
                return field.description
    return ""


# Where a name must be that of an entry of a section; `*` stands for any name or number.
_NAMES: tuple[tuple[Path, str], ...] = (
    (("subnets", "*", "network"), "networks"),
    (("networks", "*", "routes"), "route_tables"),
    (("subnets", "*", "routes"), "route_tables"),
    (("exits", "*", "routes"), "route_tables"),
    (("exits", "*", "routes_from", "*"), "route_tables"),
    (("exits", "*", "networks", "*"), "networks"),
    (("exits", "*", "hub"), "exits"),
    (("exits", "*", "destinations", "*"), "destinations"),
    (("exits", "*", "rules", "*", "destinations", "*"), "destinations"),
    *(
        ((section, "*", "filters", "*", direction, "*", "destinations", "*"), "destinations")
        for section in ("subnets", "workloads", "exits")
        for direction in ("in", "out")
    ),
    (("exits", "*", "network"), "networks"),
    (("exits", "*", "subnet"), "subnets"),
    (("exits", "*", "standby_subnet"), "subnets"),
    (("exits", "*", "allowed_from", "*"), "workloads"),
    (("exits", "*", "publishes", "*", "to"), "workloads"),
    (("exits", "*", "names_in", "*"), "networks"),
    (("exits", "*", "names_for", "*"), "subnets"),
    (("destinations", "*", "only_through", "*"), "exits"),
    (("exits", "*", "subnets", "*"), "subnets"),
    (("exits", "*", "destination"), "destinations"),
    (("workloads", "*", "subnets", "*"), "subnets"),
    (("workloads", "*", "requires", "*"), "destinations"),
    (("workloads", "*", "must_not_reach", "*"), "destinations"),
    (("workloads", "*", "resolver"), "destinations"),
    (("flows", "*", "profile"), "profiles"),
)


_ENDS = (("from", "workloads"), ("to", "destinations"))
"""The ends of a flow that goes out, and the sections of their names."""


def _end_problems(data: Any, among: Any, place_of: PlaceOf, parties: Collection[str]) -> Iterator[Problem]:
    """Ends of flows that are not there; one that comes in has them the other way round."""
    flows, known = _mapping(among, "flows"), {section: _mapping(data, section) for _, section in _ENDS}
    if isinstance(flows, Rows) and "port" not in flows.columns:
        lacking = [name for key, section in _ENDS for name, _ in flows.having(key, known[section])]
    else:
        lacking = [*flows]
    callers: dict[str, str] | None = None
    for name in dict.fromkeys(lacking):
        flow = flows[name]
        if not isinstance(flow, Mapping):
            continue
        if flow.get("port") is None:
            unknown = [(key, section) for key, section in _ENDS if _is_name(flow.get(key))]
            unknown = [(key, section) for key, section in unknown if str(flow[key]) not in known[section]]
            if not unknown:
                continue
            callers = _callers(data, parties) if callers is None else callers
            if str(flow.get("from")) in callers and str(flow.get("to")) in known["workloads"]:
                found = f"a flow from {flow['from']} to the workload {flow['to']} without a `port`"
                remedy = "Add `port`, the hosts' port that it comes in to."
                yield Problem(place_of(("flows", name)), found, "the `port` of a flow that comes in", remedy)
                continue
            for key, section in unknown:
                remedy = nearest(str(flow[key]), known[section])
                place = place_of(("flows", name, key))
                yield Problem(place, repr(flow[key]), f"a name from `{section}`", remedy)
            continue
        callers = _callers(data, parties) if callers is None else callers
        if _is_name(flow.get("from")) and str(flow["from"]) not in callers:
            place, remedy = place_of(("flows", name, "from")), nearest(str(flow["from"]), callers)
            expected = "`internet`, a third party, a destination or a network, since it comes in to a `port`"
            yield Problem(place, repr(flow["from"]), expected, remedy)
        if _is_name(flow.get("to")) and str(flow["to"]) not in known["workloads"]:
            place, remedy = place_of(("flows", name, "to")), nearest(str(flow["to"]), known["workloads"])
            yield Problem(place, repr(flow["to"]), "a name from `workloads`, since it comes in to a `port`", remedy)


def _callers(data: Any, parties: Collection[str]) -> dict[str, str]:
    """Who may open connections inward, each with the section that says so."""
    found = {INTERNET: "", **dict.fromkeys(parties, "exits")}
    for name, exit_ in _mapping(data, "exits").items():
        if isinstance(exit_, Mapping) and exit_.get("kind") in _LINES:
            found |= {str(exit_.get("third_party") or name): "exits", name: "exits"}
    return (
        found
        | dict.fromkeys(_mapping(data, "networks"), "networks")
        | dict.fromkeys(_mapping(data, "destinations"), "destinations")
    )


def _is_name(value: Any) -> bool:
    """Whether a value may be a name: a bare number may serve as one, and is read as text."""
    return isinstance(value, str | int | float) and not isinstance(value, bool)


_LINES = tuple(kind for kind, model in KINDS.items() if issubclass(model, PrivateLine))


def name_problems(data: Any, place_of: PlaceOf, among: Any = None, parties: Collection[str] = ()) -> Iterator[Problem]:
    """Names that point to nothing, apart from next hops: a route into nothing is a finding, not an error.

    among: the part of the data whose names are looked at; default: all of it. parties: those that flows may name
    though their lines are gone.
    """
    among = data if among is None else among
    for pattern, section in _NAMES:
        known = _mapping(data, section)
        lacking = _values(among, pattern, ())
        if isinstance(rows := _mapping(among, str(pattern[0])), Rows):
            # Only names that point to nothing are looked up row by row.
            key = str(pattern[2])
            lacking = (((pattern[0], name, key), value) for name, value in rows.having(key, known))
        for path, name in lacking:
            if _is_name(name) and str(name) not in known:
                yield Problem(place_of(path), repr(name), f"a name from `{section}`", nearest(str(name), known))
    yield from _end_problems(data, among, place_of, parties)
    destinations = _mapping(data, "destinations")
    for path in _own_addresses(among):
        if (to := str(path[-1])) not in destinations:
            yield Problem(place_of(path), repr(to), "a name from `destinations`", nearest(to, destinations))
    for table, routes in _mapping(among, "route_tables").items():
        for key in routes if isinstance(routes, Mapping) else ():
            if key not in destinations and (remedy := _not_a_prefix(key, destinations)):
                place = place_of(("route_tables", table, key))
                yield Problem(place, repr(key), "a prefix, or a destination's name", remedy)


def referring(sections: Collection[str]) -> frozenset[str]:
    """The sections that name entries of some others: what these lose may be missed there.

    Flows may name the lines that were there before, too.
    """
    found = {str(pattern[0]) for pattern, section in _NAMES if section in sections}
    if not {"workloads", "destinations", "networks"}.isdisjoint(sections):
        found.add("flows")
    if "destinations" in sections:
        found |= {"exits", "route_tables"}
    return frozenset(found)


def _own_addresses(among: Any) -> Iterator[Path]:
    """The destinations that are to see addresses of their own of an exit."""
    for name, exit_ in _mapping(among, "exits").items():
        yield from (("exits", name, "addresses_for", key) for key in _mapping(exit_, "addresses_for"))


def offer_problems(data: Any, offers: Any, place_of: PlaceOf) -> Iterator[Problem]:
    """Exits whose offer the catalogue does not have, or has for another kind."""
    for name, stated in _mapping(data, "exits").items():
        if not isinstance(stated, Mapping) or not isinstance(stated.get("offer"), str):
            continue
        offer = stated["offer"]
        kind, offered = _kind(stated), _kind(_mapping(offers, offer))
        place = place_of(("exits", name, "offer"))
        fitting = [one for one in offers if kind and _kind(_mapping(offers, one)) == kind]
        if offer not in offers:
            yield Problem(place, repr(offer), "an offer of the catalogue", nearest(offer, fitting or offers))
        elif offer not in fitting and kind in KINDS and offered in KINDS:
            remedy = f"Offers of this kind: {some(fitting)}." if fitting else "The catalogue offers none."
            yield Problem(place, f"an offer of kind {offered!r}", f"one of kind {kind!r}", remedy)
        else:
            yield from _timeout_problems(name, stated, _mapping(offers, offer), offer, place_of)
        model = KINDS.get(kind)
        never = stated.get("rewrites_toward") in ([], ())
        without = model is not None and model.may_only_inspect and "ports" not in _mapping(offers, offer)
        if offer in fitting and without and not never:
            remedy = "Add `ports` to the offer, or write `rewrites_toward: []`: it then translates nothing."
            yield Problem(place, repr(offer), "an offer with `ports`, since this exit translates", remedy)
        if offer in fitting and isinstance(served := _mapping(offers, offer).get("services"), list):
            destination = stated.get("destination")
            if destination not in served:
                place, remedy = place_of(("exits", name, "destination")), f"It leads to: {some(map(str, served))}."
                yield Problem(place, repr(destination), f"a service that {offer} leads to", remedy)


def _timeout_problems(name: str, stated: Any, data: Any, offer: str, place_of: PlaceOf) -> Iterator[Problem]:
    """Mapping timeouts that an exit sets and its offer does not let it set, or not so."""
    offered = _mapping(data, "mapping_timeout_s")
    for key, value in _mapping(stated, "mapping_timeout_s").items():
        bounds, place = _mapping(offered, key), place_of(("exits", name, "mapping_timeout_s", key))
        if not bounds:
            known = [one for one, each in offered.items() if isinstance(each, Mapping)]
            lets = f"It lets a gateway set {some(known)}." if known else "It lets a gateway set none."
            yield Problem(place, repr(key), f"a timeout that {offer} lets a gateway set", lets)
            continue
        low, high = bounds.get("min"), bounds.get("max")
        if all(isinstance(one, int | float) for one in (value, low, high)) and not low <= value <= high:
            yield Problem(place, f"{value:g}", f"{low:g} to {high:g} s, as {offer} allows")


def _mapping(data: Any, section: str) -> Mapping[str, Any]:
    value = data.get(section) if isinstance(data, Mapping) else None
    return value if isinstance(value, Mapping) else {}


def _kind(entry: Mapping[str, Any]) -> str:
    """The kind that an exit or an offer names; none where that is no text."""
    kind = entry.get("kind")
    return kind if isinstance(kind, str) else ""


def _values(here: Any, pattern: Path, path: Path) -> Iterator[tuple[Path, Any]]:
    """The values at a pattern's places, with their paths."""
    if not pattern:
        yield path, here
        return
    step, rest = pattern[0], pattern[1:]
    if step == "*":
        yield from _entries(here, rest, path)
    elif isinstance(here, Mapping) and step in here:
        yield from _values(here[step], rest, (*path, step))


def _entries(here: Any, rest: Path, path: Path) -> Iterator[tuple[Path, Any]]:
    """The values at a pattern's places in every entry of a section or list."""
    if isinstance(here, Mapping) and len(rest) == 1 and rest[0] != "*":
        # The shape of nearly all patterns: one key of every entry of a section.
        key = rest[0]
        for name, entry in here.items():
            if isinstance(entry, Mapping) and key in entry:
                yield (*path, name, key), entry[key]
        return
    for name, entry in here.items() if isinstance(here, Mapping) else enumerate(here if isinstance(here, list) else ()):
        yield from _values(entry, rest, (*path, name))


def _not_a_prefix(key: str, destinations: Mapping[str, Any]) -> str:
    try:
        parse_prefix(key)
    except ValueError as error:
        if key[:1].isdigit() and "/" in key:
            return f"Write {error}."
        return nearest(key, destinations)
    return ""
