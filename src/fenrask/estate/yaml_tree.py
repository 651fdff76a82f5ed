"""YAML 1.2 read into plain values, with the place of every value at hand.

PyYAML's C parser composes nodes that carry line and column. Scalars are read by the core schema of
YAML 1.2.2 (section 10.3), not by YAML 1.1: `no` is text and `12:30` is text. Keys are always text.
"""

import re
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import yaml
from yaml.cyaml import CParser  # type: ignore[attr-defined]

from fenrask.errors import Place, Problem

__all__ = ["Tree", "read_yaml", "scalar"]


class _Composer(CParser):
    """The C parser with a resolver that only tells plain scalars from quoted ones."""

    def resolve(self, kind: type, value: str | None, implicit: tuple[bool, bool]) -> str:
        return "plain" if kind is yaml.ScalarNode and implicit[0] else ""

    def descend_resolver(self, parent: Any, index: Any) -> None:
        """Nothing to do: no tag depends on a path here."""

    def ascend_resolver(self) -> None:
        """Nothing to do."""


MOST_VALUES = 2_000_000
"""A file that unfolds (through its aliases) to more values than this is refused."""

_INT = re.compile(r"[-+]?(0|[1-9][0-9]*)\Z")
_FLOAT = re.compile(r"[-+]?(\.[0-9]+|(0|[1-9][0-9]*)(\.[0-9]*)?)([eE][-+]?[0-9]+)?\Z")
_WORDS = {
    **dict.fromkeys(("", "~", "null", "Null", "NULL")),
    **dict.fromkeys(("true", "True", "TRUE"), True),
    **dict.fromkeys(("false", "False", "FALSE"), False),
    **dict.fromkeys((".inf", ".Inf", ".INF", "+.inf", "+.Inf", "+.INF"), float("inf")),
    **dict.fromkeys(("-.inf", "-.Inf", "-.INF"), float("-inf")),
    **dict.fromkeys((".nan", ".NaN", ".NAN"), float("nan")),
}


_MOST_DIGITS = 400
"""Digits of a whole number; more are no number that anything here could have, and are told as text."""


def scalar(text: str) -> Any:
    """A plain scalar by YAML 1.2's core schema; digits with leading zeros stay text (they are names).

    >>> scalar("12"), scalar("0.5"), scalar("no"), scalar("007")
    (12, 0.5, 'no', '007')
    """
    if text in _WORDS:
        return _WORDS[text]
    if text[0].isalpha():
        return text
    if _INT.match(text) and len(text) <= _MOST_DIGITS:
        return int(text)
    if _FLOAT.match(text):
        return float(text)
    return text


@dataclass(frozen=True)
class Tree:
    """A composed file, kept to answer where the value of a path stands."""

    file: str
    root: Any
    _known: dict[Any, dict[str, tuple[Any, Any]]] = field(default_factory=dict, repr=False, compare=False)

    def find(self, path: tuple[str | int, ...]) -> tuple[Any, int]:
        """The node of the deepest part of `path` that exists (its key node in a mapping), and the depth."""
        node, mark_node = self.root, self.root
        for depth, step in enumerate(path):
            if isinstance(node, yaml.MappingNode):
                pair = self._entries(node).get(str(step))
                if pair is None:
                    return mark_node, depth
                mark_node, node = pair
            elif isinstance(node, yaml.SequenceNode) and isinstance(step, int) and step < len(node.value):
                mark_node = node = node.value[step]
            else:
                return mark_node, depth
        return mark_node, len(path)

    def _entries(self, node: Any) -> dict[str, tuple[Any, Any]]:
        """A mapping's nodes by key, made when a place inside it is first asked for."""
        found = self._known.get(node)
        if found is None:
            found = self._known[node] = {
                key.value: (key, value) for key, value in node.value if isinstance(key.value, str)
            }
        return found

    def place(self, path: tuple[str | int, ...]) -> Place:
        """Where the value at `path` stands; where it is missing, the place of what should hold it."""
        node, _ = self.find(path)
        dotted = ".".join(str(step) for step in path)
        if node is None:
            return Place(self.file, 1, 1, dotted)
        return Place(self.file, node.start_mark.line + 1, node.start_mark.column + 1, dotted)


def read_yaml(text: str, file: str) -> tuple[Any, Tree, list[Problem]]:
    """The values of one YAML document, its tree, and what is wrong with it as YAML."""
    try:
        if _may_be_deep(text) and _depth(text) > _DEEPEST:
            return None, Tree(file, None), [_too_deep(file)]
        root = _Composer(text).get_single_node()
    except yaml.YAMLError as error:
        return None, Tree(file, None), [_syntax_problem(error, file, text)]
    except RecursionError:
        return None, Tree(file, None), [_too_deep(file)]
    problems: list[Problem] = []
    tree = Tree(file, root)
    values = _Values(
        partial(_repeated, tree, problems), partial(_no_text, tree, problems), partial(_tagged, tree, problems)
    )
    try:
        data = values.build(root, ()) if root is not None else None
    except RecursionError:
        return None, tree, [_too_deep(file)]
    except ValueError as error:
        problems.append(Problem(Place(file, 1, 1), str(error), "a finite tree of values", "Remove the alias."))
        data = None
    return data, tree, problems


_DEEPEST = 300
"""Levels of nesting that are read: the parser's own stack ends somewhere beyond."""
_BLOCK = re.compile(r"^[ \t?:-]{300,}", re.MULTILINE)


def _may_be_deep(text: str) -> bool:
    """Whether a text has enough brackets, or an indent long enough, to nest too deeply: a quick look."""
    return text.count("[") + text.count("{") > _DEEPEST and _brackets(text) > _DEEPEST or bool(_BLOCK.search(text))


def _brackets(text: str) -> int:
    """How deep brackets nest, those in quotes and comments counted too."""
    depth = deepest = 0
    for sign in re.findall(r"[\[\]{}]", text):
        depth = depth + 1 if sign in "[{" else max(0, depth - 1)
        deepest = max(deepest, depth)
    return deepest


def _depth(text: str) -> int:
    """How deep the collections of a text nest, by its events, which need no stack."""
    depth = deepest = 0
    for event in yaml.parse(text, Loader=_Composer):  # type: ignore[arg-type]
        depth += isinstance(event, yaml.CollectionStartEvent) - isinstance(event, yaml.CollectionEndEvent)
        deepest = max(deepest, depth)
        if deepest > _DEEPEST:
            break
    return deepest


def _too_deep(file: str) -> Problem:
    return Problem(Place(file, 1, 1), "values nested hundreds of levels deep", "an estate or a catalogue")


class _Values:
    """Turns nodes into values; counts them, so that a small file of aliases cannot unfold without end."""

    def __init__(self, repeated: Any, wrong_key: Any, tagged: Any) -> None:
        self.repeated, self.wrong_key, self.tagged = repeated, wrong_key, tagged
        self.count = 0
        self.open: set[Any] = set()

    def build(self, node: Any, path: tuple[str | int, ...]) -> Any:
        self.count += 1
        if isinstance(node, yaml.ScalarNode):
            if node.tag not in ("plain", "") and node.tag not in _TEXT_TAGS:
                self.tagged(node, path)
            return scalar(node.value) if node.tag == "plain" else node.value
        if self.count > MOST_VALUES or node in self.open:
            raise ValueError("aliases that unfold to too many values, or to themselves")
        self.open.add(node)
        value = self._mapping(node, path) if isinstance(node, yaml.MappingNode) else self._sequence(node, path)
        self.open.discard(node)
        return value

    def _mapping(self, node: Any, path: tuple[str | int, ...]) -> dict[str, Any]:
        result: dict[str, Any] = {}
        for key, value in node.value:
            if not isinstance(key.value, str):
                self.wrong_key(key, path)
                continue
            name = key.value
            if not name.strip():
                self.wrong_key(key, path)
                continue
            if name in result:
                self.repeated(key, (*path, name))
            result[name] = self.build(value, (*path, name))
        return result

    def _sequence(self, node: Any, path: tuple[str | int, ...]) -> list[Any]:
        return [self.build(item, (*path, number)) for number, item in enumerate(node.value)]


def _repeated(tree: Tree, problems: list[Problem], key: Any, path: tuple[str | int, ...]) -> None:
    place = Place(tree.file, key.start_mark.line + 1, key.start_mark.column + 1, ".".join(map(str, path)))
    problems.append(Problem(place, f"the key {key.value!r} twice", "each key once", "Remove or rename one."))


def _no_text(tree: Tree, problems: list[Problem], key: Any, path: tuple[str | int, ...]) -> None:
    place = Place(tree.file, key.start_mark.line + 1, key.start_mark.column + 1, ".".join(map(str, path)))
    if isinstance(key.value, str):
        problems.append(Problem(place, "a key that is empty", "a name", "Give it one."))
        return
    problems.append(Problem(place, "a key that is a list or a mapping", "a key that is text", "Put it in quotes."))


_TEXT_TAGS = ("tag:yaml.org,2002:str", "!")


def _tagged(tree: Tree, problems: list[Problem], node: Any, path: tuple[str | int, ...]) -> None:
    place = Place(tree.file, node.start_mark.line + 1, node.start_mark.column + 1, ".".join(map(str, path)))
    problems.append(Problem(place, f"the tag {node.tag.replace('tag:yaml.org,2002:', '!!')!r}", "", "Take it out."))


def _syntax_problem(error: yaml.YAMLError, file: str, text: str) -> Problem:
    mark, beginning = getattr(error, "problem_mark", None), getattr(error, "context_mark", None)
    told = getattr(error, "problem", None) or str(error).splitlines()[0]
    if "cannot start any token" in told and mark:
        line = text.split("\n")[mark.line]
        if "\t" in line[: mark.column + 1]:
            return Problem(_at(file, mark), "a tab", "", "Indent with spaces.")
        return Problem(_at(file, mark), f"{line[mark.column : mark.column + 1]!r}, which begins no value", "", _QUOTED)
    for words, found, remedy, at_beginning in _SYNTAX:
        if words in told or (words in str(getattr(error, "context", "")) and at_beginning):
            return Problem(_at(file, beginning if at_beginning and beginning else mark), found, "", remedy)
    remedy = "Check indentation, quotes and colons just before this place."
    return Problem(_at(file, mark or beginning), f"not YAML 1.2 ({told.removeprefix('found ')})", "", remedy)


def _at(file: str, mark: Any) -> Place:
    return Place(file, mark.line + 1, mark.column + 1) if mark else Place(file, 1, 1)


_QUOTED, _INDENTED = "Put it in quotes.", "a line that is indented otherwise than those beside it"
_SYNTAX: tuple[tuple[str, str, str, bool], ...] = (
    ("quoted scalar", "a quote that is not closed", "Close it with the same quote.", True),
    ("'}'", "a { that is not closed, or a comma that is missing after it", "Close it with }.", True),
    ("']'", "a [ that is not closed, or a comma that is missing after it", "Close it with ].", True),
    ("expected ':'", "a line without a colon", "Write `key: value`.", True),
    ("expected key", _INDENTED, "Give it as many spaces as these.", False),
    ("expected '-' indicator", _INDENTED, "Give it as many spaces as these.", False),
    ("node content", "the end, or another sign, where a value should be", "Write it; close what is open.", False),
    ("undefined alias", "an * before a name that no & gave", "Put text that begins with * in quotes.", False),
    ("mapping values are not allowed", "a second colon in one line", "Put text with a colon in quotes.", False),
    ("control characters", "a control character", "Take it out.", False),
    ("another document", "a second document", "Keep one to a file: take `---` out.", False),
)  # fmt: skip
"""What the parser says, or was at then; what a person sees there, what to do; whether where it was at is told."""
