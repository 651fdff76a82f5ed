"""The one place where remedies are tried: no rule's patch is printed before the estate with it was evaluated.

A patch stays if, by itself, the finding is gone and nothing is worse: no flow lost, no need broken, no exit that lacks
something, no error that was not there. Then all that stay are applied in the order in which they are printed. Where one
undoes another, or they take the same key, the rule is asked again on the estate as it is by then, and the two become
one patch; what does not fit in at all is said in words.
"""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from fenrask.checks.contract import Context, Fix, Rule
from fenrask.errors import UnusableInput
from fenrask.estate import Described
from fenrask.estate.suggestions import some
from fenrask.evaluation import Evaluation, comes_next, evaluate, harm
from fenrask.findings import Finding, Severity
from fenrask.progress import gone_through

__all__ = ["cures", "tried"]

_MOST = 60
"""Estates that are looked at in one run."""
_TRACED = 120_000
"""Flows that all of them may have together; beyond it fewer are looked at, but never fewer than eight."""

_NOT_TRIED = "not tried: cure what is above it first"

Place = tuple[str, str]
"""The name of a rule, and where it found something."""


@dataclass(frozen=True)
class _State:
    """An estate on the way, and what its rules find."""

    evaluation: Evaluation
    findings: Sequence[Finding]

    @cached_property
    def told(self) -> frozenset[tuple[Place, str]]:
        """Places with causes."""
        return frozenset(_key(one) for one in self.findings)

    @cached_property
    def counts(self) -> Counter[Place]:
        """How many findings there are at each place."""
        return Counter(map(_place, self.findings))

    def errors(self, rules: Sequence[Rule]) -> Counter[Place]:
        """The errors by place that are no verdicts of the engine."""
        others = {one.name for one in rules if not one.is_verdict}
        return Counter(_place(one) for one in self.findings if one.severity is Severity.ERROR and one.rule in others)


def _place(finding: Finding) -> Place:
    """Its place; of an entry of a list, which moves when others go, the list."""
    head, _, last = finding.place.path.rpartition(".")
    return (finding.rule, head if last.isdigit() else finding.place.path)


def cures(before: Sequence[Finding], after: Sequence[Finding], cured: Sequence[Finding]) -> bool:
    """Whether some findings of those before are gone: none is found again, and that many fewer are at their places."""
    return _cures(_State(None, before), _State(None, after), cured)  # type: ignore[arg-type]


def _cures(start: _State, then: _State, cured: Sequence[Finding]) -> bool:
    gone = Counter(map(_place, cured))
    fewer = all(then.counts[place] <= start.counts[place] - number for place, number in gone.items())
    return fewer and not any(_key(one) in then.told for one in cured)


Found = Callable[[Context, Sequence[Rule]], Sequence[Finding]]
"""All findings of some rules."""


@dataclass
class _Trier:
    start: _State
    rules: Sequence[Rule]
    found: Found
    left: int
    """How many estates may still be looked at."""
    alone: dict[tuple[Place, str], _State] = field(default_factory=dict)
    """What is found with each patch by itself."""
    asked: set[str] = field(default_factory=set)
    """The rules whose findings have patches."""
    by_another: dict[int, tuple[Finding, Finding]] = field(default_factory=dict)
    """By place in the list: the finding as it was, and the one whose remedy cures it, too."""

    def tried(self, findings: Sequence[Finding]) -> list[Finding]:
        self.asked = {one.rule for one in findings if one.fix is not None}
        alone = [self._alone(one) for one in gone_through(findings, "remedy of finding")]
        told, again = alone, True
        while again:
            told, again = self._together(alone)
            if again:
                alone = told
        return self._pointing(self._held(told))

    def _held(self, told: list[Finding]) -> list[Finding]:
        """The same, without the last patches as long as all of them together do not do: those may have become one."""
        found = list(told)
        while self.by_another:
            places = [place for place, one in enumerate(found) if one.fix is not None]
            if len(places) < 2 or self._all_do([found[place] for place in places]):
                break
            found[places[-1]] = _in_words(found[places[-1]])
        return found

    def _pointing(self, told: list[Finding]) -> list[Finding]:
        """The same, where no finding names the remedy of one that has none."""
        with_patch = {_key(one) for one in told if one.fix is not None}
        return [
            _in_words(self.by_another[place][0])
            if place in self.by_another and _key(self.by_another[place][1]) not in with_patch
            else one
            for place, one in enumerate(told)
        ]

    def _cured_by(self, place: int, finding: Finding, other: Finding) -> Finding:
        """A finding that the remedy of another cures."""
        self.by_another[place] = (finding, other)
        remedy = f"{finding.remedy} The remedy of {other.rule} at {other.place.path} cures this, too."
        return replace(finding, fix=None, remedy=remedy.strip())

    def _alone(self, finding: Finding) -> Finding:
        if finding.fix is None:
            return finding
        if finding.accepted:
            return replace(finding, fix=None)
        if self.left <= 0:
            return _in_words(finding, _NOT_TRIED)
        then = self._then(self.start.evaluation.described, finding.fix)
        if then is None or not _cures(self.start, then, [finding]):
            return _in_words(finding)
        self.alone[_key(finding)] = then
        return replace(finding, remedy=f"{finding.remedy} {self._next(then)}".strip())

    def _next(self, then: _State) -> str:
        """What is to be mended next, in words: what arrives with the patch may be more than an exit carries."""
        lacking, breaking, too_short = comes_next(self.start.evaluation, then.evaluation)
        told = [f"{some(lacking)} cannot carry all that arrives then"] if lacking else []
        told += [f"{some(breaking)} then {'breaks' if len(breaking) == 1 else 'break'} a need"] if breaking else []
        told += [f"the allow-list of {some(too_short)} is too short then"] if too_short else []
        return f"To mend next: {'; '.join(told)}." if told else ""

    def _together(self, findings: list[Finding]) -> tuple[list[Finding], bool]:
        """The same, with patches that do in this order, of which the first is known to do by itself.

        Second: whether this is to be done again, since a patch cures what an earlier one was for and conflicts with it.
        """
        told = list(findings)
        places = [place for place, one in enumerate(told) if one.fix is not None]
        if len(places) < 2 or self._all_do([told[place] for place in places]):
            return told, False
        described, handled, done = self.start.evaluation.described, list[Finding](), list[int]()
        for place in places:
            finding = told[place]
            then = self._then(described, finding.fix or {}) if self.left > 0 else None
            if then is None or not _cures(self.start, then, [*handled, finding]):
                if (other := self._needless(told, done, finding)) is not None:
                    return [
                        self._cured_by(number, one, finding) if one is other else one
                        for number, one in enumerate(findings)
                    ], True
                then = self._merged(told, done, place, described, handled)
                if then is None:
                    told[place] = self._cured_before(told, done, place)
                    continue
            described = then.evaluation.described
            handled.append(finding)
            done.append(place)
        return told, False

    def _all_do(self, findings: Sequence[Finding]) -> bool:
        """Whether with all their patches, in this order, nothing is left of any of them."""
        described = self.start.evaluation.described
        try:
            for finding in findings[:-1]:
                described = described.patched(dict(finding.fix or {}), "a remedy")
        except UnusableInput:
            return False
        then = self._then(described, findings[-1].fix or {})
        return then is not None and _cures(self.start, then, findings)

    def _needless(self, told: Sequence[Finding], done: Sequence[int], finding: Finding) -> Finding | None:
        """One before whose patch takes the same keys, and which the finding's own patch cures, too."""
        then = self.alone[_key(finding)]
        return next((told[number] for number in done if _cures(self.start, then, [told[number]])), None)

    def _cured_before(self, told: Sequence[Finding], done: Sequence[int], place: int) -> Finding:
        """The finding in words; with the one before whose patch cures it, too."""
        finding = told[place]
        for number in done:
            then = self.alone.get(_key(told[number]))
            if then is not None and _cures(self.start, then, [finding]):
                return self._cured_by(place, finding, told[number])
        return _in_words(finding, _NOT_TRIED if self.left <= 0 else "")

    def _merged(
        self, told: list[Finding], done: Sequence[int], place: int, described: Described, handled: Sequence[Finding]
    ) -> _State | None:
        """The finding's remedy on the estate as it is by then, made one with those before that take the same keys."""
        finding = told[place]
        again = next((one for one in self._by_then(described, finding) if _place(one) == _place(finding)), None)
        if again is None or again.fix is None or self.left <= 0:
            return None
        then = self._then(described, again.fix)
        if then is None or not _cures(self.start, then, [*handled, finding]):
            return None
        same = [number for number in done if _keys(told[number].fix or {}) & _keys(again.fix)]
        whole: Fix = {}
        for number in same:
            whole = composed(whole, told[number].fix or {})
        whole = composed(whole, again.fix)
        first = told[same[0]] if same else finding
        # The patch that the two become does by itself what both did.
        alone = self._then(self.start.evaluation.described, whole)
        if alone is None or not _cures(self.start, alone, [*(told[number] for number in same), finding]):
            return None
        for number in (*same, place):
            if told[number] is first:
                told[number] = replace(first, fix=whole)
            else:
                told[number] = self._cured_by(number, told[number], first)
        self.alone[_key(first)] = alone
        return then

    def _by_then(self, described: Described, finding: Finding) -> Sequence[Finding]:
        evaluation = evaluate(described, like=self.start.evaluation)
        self.left -= 1
        return self.found(Context(evaluation), [one for one in self.rules if one.name == finding.rule])

    def _then(self, described: Described, fix: Mapping[str, Any]) -> _State | None:
        """The estate with a fix, by the rules that are asked; None where it does any harm."""
        self.left -= 1
        try:
            after = evaluate(described.patched(dict(fix), "a remedy"), like=self.start.evaluation)
            if harm(self.start.evaluation, after):
                return None
            rules = [one for one in self.rules if one.severity is Severity.ERROR or one.name in self.asked]
            state = _State(after, self.found(Context(after, seeks=False), rules))
        except UnusableInput:
            return None
        return state if state.errors(self.rules) <= self.start.errors(self.rules) else None


def tried(context: Context, rules: Sequence[Rule], findings: Sequence[Finding], found: Found) -> list[Finding]:
    """The findings in their order, with patches alone that cure them and do no harm, each and all together.

    rules: that were asked.
    """
    most = max(8, min(_MOST, _TRACED // max(1, len(context.estate.flows))))
    return _Trier(_State(context.evaluation, findings), rules, found, most).tried(findings)


def _key(finding: Finding) -> tuple[Place, str]:
    return _place(finding), finding.cause


def _in_words(finding: Finding, why: str = "") -> Finding:
    """A finding without its patch."""
    return replace(finding, fix=None, remedy=f"{finding.remedy} ({why})".strip() if why else finding.remedy)


def composed(first: Mapping[str, Any], second: Mapping[str, Any]) -> Fix:
    """The merge patch (RFC 7396) that does what two do one after the other.

    >>> composed({"a": {"b": 1, "c": None}}, {"a": {"b": None, "d": 2}})
    {'a': {'b': None, 'c': None, 'd': 2}}
    """
    found = dict(first)
    for key, value in second.items():
        known = found.get(key)
        both = isinstance(value, dict) and isinstance(known, dict)
        found[key] = composed(known, value) if both else value  # type: ignore[arg-type]
    return found


def _keys(fix: Any) -> frozenset[tuple[str, ...]]:
    """The places that a patch sets."""
    return frozenset(_places(fix))


def _places(fix: Any) -> Iterator[tuple[str, ...]]:
    for key, value in fix.items():
        if isinstance(value, dict) and value:
            yield from ((str(key), *rest) for rest in _places(value))
        else:
            yield (str(key),)
