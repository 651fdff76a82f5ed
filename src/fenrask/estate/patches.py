"""JSON Merge Patch (RFC 7396), and single values set by a dotted key."""

from collections.abc import Mapping, Sequence
from typing import Any

__all__ = ["merge", "merge_patch", "merge_patches", "set_patch"]


def merge(target: Any, patch: Any) -> Any:
    """The target with the patch laid over it (RFC 7396, section 2); neither is changed.

    >>> merge({"a": {"b": 1, "c": 2}}, {"a": {"b": None, "d": 3}})
    {'a': {'c': 2, 'd': 3}}
    """
    if not isinstance(patch, Mapping):
        return patch
    result = dict(target) if isinstance(target, Mapping) else {}
    for key, value in patch.items():
        if value is None:
            result.pop(key, None)
        else:
            result[key] = merge(result.get(key), value)
    return result


def merge_patches(first: Any, second: Any) -> Any:
    """Two merge patches as one: the second on top, and what either removes stays removed.

    >>> merge_patches({"a": {"b": 1, "c": None}}, {"a": {"b": None}})
    {'a': {'b': None, 'c': None}}
    """
    if not isinstance(first, Mapping) or not isinstance(second, Mapping):
        return second
    return {**first, **{key: merge_patches(first.get(key), value) for key, value in second.items()}}


def set_patch(data: Any, dotted: str, value: Any) -> dict[str, Any]:
    """The patch that sets one value: a mapping takes the place of the one that is there, it is not merged into it.

    >>> set_patch({"exits": {"gate": {"kind": "a", "nodes": 2}}}, "exits.gate", {"kind": "b"})
    {'exits': {'gate': {'nodes': None, 'kind': 'b'}}}

    Names may hold dots (prefixes do), so at each level the longest existing key that fits is taken,
    and else the text up to the next dot; a part in double quotes is taken as it stands.
    """
    path, here = _path(data, dotted)
    return _under(path, _instead(here, value))


def merge_patch(data: Any, dotted: str, value: Any) -> dict[str, Any]:
    """The patch that merges a value into the one that is there; keys are read as `set_patch` reads them.

    >>> merge_patch({"exits": {"gate": {"kind": "a", "nodes": 2}}}, "exits.gate", {"kind": "b"})
    {'exits': {'gate': {'kind': 'b'}}}
    """
    return _under(_path(data, dotted)[0], value)


def _path(data: Any, dotted: str) -> tuple[list[str], Any]:
    """The keys that a dotted key names, and the value that is there, if any."""
    path: list[str] = []
    here, rest = data, dotted
    while rest:
        key, rest = _first_key(here, rest)
        path.append(key)
        here = here.get(key) if isinstance(here, Mapping) else None
    return path, here


def _under(path: Sequence[str], value: Any) -> dict[str, Any]:
    """The patch with a value under these keys, of which there is at least one."""
    patch: Any = value
    for key in reversed(path):
        patch = {key: patch}
    return dict(patch)


def _instead(here: Any, value: Any) -> Any:
    """The patch that makes one value into another."""
    if not isinstance(here, Mapping) or not isinstance(value, Mapping):
        return value
    gone = {key: None for key in here if key not in value}
    return {**gone, **{key: _instead(here.get(key), one) for key, one in value.items()}}


def _first_key(here: Any, rest: str) -> tuple[str, str]:
    if rest.startswith('"') and '"' in rest[1:]:
        key, after = rest[1:].split('"', 1)
        return key, after.removeprefix(".")
    known = here if isinstance(here, Mapping) else ()
    fitting = [key for key in known if rest == key or rest.startswith(f"{key}.")]
    key = max(fitting, key=len) if fitting else rest.split(".", 1)[0]
    return key, rest[len(key) + 1 :]
