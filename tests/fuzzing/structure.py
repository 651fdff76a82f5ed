"""Documents changed by their schema: keys added, values at and beyond their bounds, names of others, entries copied,
moved and removed.

Damaged bytes seldom get past the reading of a file; a change of this kind is often read, and meets what comes after.
"""

import copy
import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

__all__ = ["Changes"]

_TEXTS = (
    "", "a", "none", "null", "0", "-", "a/b", "*", "all", "0.0.0.0/0", "::/0", "10.0.0.0/8", "10.0.1.0/24", "10.0.1.7",
    "198.51.100.0/29", "198.51.100.7", "198.51.100.4/30", "203.0.113.0/24", "203.0.113.255", "255.255.255.255/32",
    "2001:db8::/32", "2001:db8::7/128", "64:ff9b::/96", "169.254.0.0/16", "224.0.0.0/4", "a.example.net",
    "*.example.net", "2026-02-30", "2026-12-01", "1e3", "12:30", "x" * 300, "ä", "\u202e", "=1+1", "tcp", "udp",
)  # fmt: skip
_NUMBERS = (0, 1, 2, 3, 7, 24, 60, 255, 256, 1000, 65535, 65536, 10**6, 10**9, 2**53, 2**63, 10**15, 10**18)
_FRACTIONS = (0.0, 1e-300, 1e-12, 1e-6, 0.001, 0.1, 0.5, 0.999999, 1.0, 1.5, 1e6, 1e15, 1e300)
_OTHERS = (None, True, False, -1, -0.5, [], {}, "", float("nan"), float("inf"), [[]], {"a": {}})
_DEPTH = 4


@dataclass(frozen=True)
class _Place:
    """A place in a document: what holds it, under which key, and what its schema allows there."""

    holder: Any
    key: Any
    schema: dict[str, Any]


class Changes:
    """Changes of documents that follow one JSON Schema, drawn from `dice`."""

    def __init__(self, schema: dict[str, Any], dice: random.Random) -> None:
        self.schema, self.dice = schema, dice
        self.by_key: dict[str, list[str]] = {}
        """Texts of the document at hand, by their key."""
        self.texts: list[str] = []
        """Its keys, names of entries among them."""

    def of(self, document: dict[str, Any]) -> dict[str, Any]:
        """A copy with one to five changes."""
        changed = copy.deepcopy(document)
        for _ in range(self.dice.choice((1, 1, 1, 2, 3))):
            self._change(changed)
        return changed

    def _change(self, document: dict[str, Any]) -> None:
        dice = self.dice
        places = list(self._places(document, self.schema))
        self.by_key, self.texts = self._texts(places), [str(place.key) for place in places]
        if not places:
            return
        place = dice.choice(places)
        value = place.holder[place.key]
        match dice.randrange(8):
            case 0 if dice.random() < 0.7:
                del place.holder[place.key]
            case 0:
                place.holder[place.key] = dice.choice(_OTHERS)
            case 1 | 2:
                place.holder[place.key] = self._made(place.schema, 0, place.key)
            case 3 | 4 | 5 if isinstance(value, dict):
                self._add(value, place.schema)
            case 6:
                other = dice.choice(places)
                place.holder[place.key] = copy.deepcopy(other.holder[other.key])
            case 7 if isinstance(place.holder, dict):
                place.holder[dice.choice(self.texts + ["new"])] = copy.deepcopy(value)
            case 7:
                place.holder.append(copy.deepcopy(value))
            case _:
                place.holder[place.key] = self._near(value, place.key)

    @staticmethod
    def _texts(places: list[_Place]) -> dict[str, list[str]]:
        """Texts by their key anywhere in the document, in lists, too."""
        found: dict[str, list[str]] = {}
        for place in places:
            value = place.holder[place.key]
            values = value if isinstance(value, list) else [value]
            found.setdefault(str(place.key), []).extend(text for text in values if isinstance(text, str))
        return found

    def _text(self, key: Any) -> str:
        """A text: most often one that this key has elsewhere, or a name of the document."""
        usual = self.by_key.get(str(key))
        if usual and self.dice.random() < 0.6:
            return self.dice.choice(usual)
        return self.dice.choice(self.texts if self.texts and self.dice.random() < 0.6 else _TEXTS)

    def _near(self, value: Any, key: Any) -> Any:
        """A value of the same kind."""
        dice = self.dice
        if isinstance(value, str):
            return self._text(key)
        if isinstance(value, bool):
            return not value
        if isinstance(value, int | float):
            return dice.choice((value + 1, value - 1, value * 1000, value / 1000, value * 2, dice.choice(_NUMBERS)))
        if isinstance(value, list):
            return dice.sample(value, dice.randrange(len(value) + 1)) * dice.choice((1, 2))
        return value

    def _add(self, value: dict[str, Any], schema: dict[str, Any]) -> None:
        """A key that the schema knows, or an entry of a mapping by name."""
        known = self._resolved(schema, value)
        properties = [key for key in known.get("properties", {}) if key not in value]
        if properties:
            key = self.dice.choice(properties)
            value[key] = self._made(known["properties"][key], 0, key)
        elif isinstance(entry := known.get("additionalProperties"), dict):
            value[self.dice.choice(self.texts + list(_TEXTS))] = self._made(entry, 0)

    def _places(self, value: Any, schema: dict[str, Any]) -> Iterator[_Place]:
        """Every place of a document."""
        known = self._resolved(schema, value)
        if isinstance(value, dict):
            for key, inner in value.items():
                entry = known.get("properties", {}).get(key, known.get("additionalProperties"))
                entry = entry if isinstance(entry, dict) else {}
                yield _Place(value, key, entry)
                yield from self._places(inner, entry)
        elif isinstance(value, list):
            for at, inner in enumerate(value):
                yield _Place(value, at, known.get("items", {}))
                yield from self._places(inner, known.get("items", {}))

    def _resolved(self, schema: dict[str, Any], value: Any) -> dict[str, Any]:
        """What a schema says of this value, references and alternatives followed."""
        if "$ref" in schema:
            return self._resolved(self.schema["$defs"][schema["$ref"].rsplit("/", 1)[1]], value)
        if "discriminator" in schema and isinstance(value, dict):
            by_kind = schema["discriminator"]
            kind = value.get(by_kind["propertyName"])
            if isinstance(kind, str) and kind in by_kind["mapping"]:
                return self._resolved({"$ref": by_kind["mapping"][kind]}, value)
        choices = schema.get("anyOf") or schema.get("oneOf")
        if choices:
            fitting = [known for choice in choices if self._fits(known := self._resolved(choice, value), value)]
            return fitting[0] if fitting else {}
        return schema

    @staticmethod
    def _fits(schema: dict[str, Any], value: Any) -> bool:
        kinds = {dict: "object", list: "array", str: "string", bool: "boolean", int: "integer", float: "number"}
        kind = schema.get("type")
        return kind == kinds.get(type(value)) or (kind == "number" and type(value) is int)

    def _made(self, schema: dict[str, Any], depth: int, key: Any = None) -> Any:
        """A value that the schema allows, or almost."""
        dice = self.dice
        if "$ref" in schema:
            schema = self.schema["$defs"][schema["$ref"].rsplit("/", 1)[1]]
        if choices := schema.get("anyOf") or schema.get("oneOf"):
            return self._made(dice.choice(choices), depth, key)
        if "const" in schema:
            return schema["const"]
        if "enum" in schema:
            return dice.choice(schema["enum"])
        match schema.get("type"):
            case "object":
                return self._mapping(schema, depth)
            case "array":
                most = 0 if depth >= _DEPTH else dice.choice((0, 1, 1, 2, 3))
                return [self._made(schema.get("items", {}), depth + 1, key) for _ in range(most)]
            case "integer" | "number" as kind:
                return self._number(schema, kind)
            case "boolean":
                return dice.random() < 0.5
            case "null":
                return None
            case _:
                return self._text(key)

    def _number(self, schema: dict[str, Any], kind: str) -> int | float:
        bounds = [
            schema[key] for key in ("minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum") if key in schema
        ]
        near = [bound + step for bound in bounds for step in (-1, 0, 1)]
        usual = _NUMBERS if kind == "integer" else (*_NUMBERS, *_FRACTIONS, *_FRACTIONS)
        return self.dice.choice(near) if near and self.dice.random() < 0.4 else self.dice.choice(usual)

    def _mapping(self, schema: dict[str, Any], depth: int) -> dict[str, Any]:
        dice, properties = self.dice, schema.get("properties", {})
        wanted = set(schema.get("required", ()))
        if depth < _DEPTH and properties:
            wanted |= set(dice.sample(list(properties), min(len(properties), dice.choice((0, 1, 2, 4)))))
        made = {key: self._made(properties[key], depth + 1, key) for key in properties if key in wanted}
        if isinstance(entry := schema.get("additionalProperties"), dict) and depth < _DEPTH:
            for _ in range(dice.choice((0, 1, 1, 2))):
                made[dice.choice(self.texts + list(_TEXTS))] = self._made(entry, depth + 1)
        return made
