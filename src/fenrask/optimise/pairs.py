"""Options with a second machine or node: beside those that a single one breaks a need of, where two mend it."""

from collections.abc import Container, Iterator, Mapping
from dataclasses import replace

from fenrask.estate import KINDS, Counted, Described
from fenrask.optimise.judging import UNCARRIED, Judge
from fenrask.optimise.problem import PRIVATE, Option, Site, Unit

__all__ = ["is_single", "with_pairs", "with_sites"]

_Pairs = dict[Option, Option]
"""Options in pairs, each with the option that it is made of."""
_Doubled = frozenset[tuple[str, str, bool]]
"""Of what there are two: the network, the offer, and whether the second is in another zone."""
_Kind = tuple[_Doubled, str]
"""The same, with the option's name."""


def with_pairs(judge: Judge, units: list[Unit], kept: Container[str]) -> list[Unit]:
    """The same units with options in pairs, for each network and offer where a pair mends what one breaks.

    All flows of the network may then use the pair. What is `kept` stays as it is.
    """
    pairs: list[_Pairs] = []
    for unit in units:
        alone = [one for one in unit.options if not any(name in kept for name in unit.flows)]
        pairs.append({pair: one for one in alone for pair in _pairs(judge.current.described, one, kept)})
    # Where the first one mends nothing, the others, which differ from it by their zones, do not either.
    first = _first(pairs)
    tried = _judged(judge, units, pairs, {(doubled, name) for doubled, name in first.items()})
    mending = {_doubled(pair) for (number, pair), one in tried.items() if {*one.fails} < {*pairs[number][pair].fails}}
    rest = {_kind(pair) for some in pairs for pair in some if _doubled(pair) in mending}
    tried |= _judged(judge, units, pairs, rest - {*first.items()})
    mended = {_doubled(one) for one in tried.values() if not one.fails}
    # Whoever meets all needs with one may share the pair.
    sharing = [
        tuple(pair for pair, one in some.items() if not one.fails and _doubled(pair) in mended) for some in pairs
    ]
    shared = judge.judged([Unit(unit.group, some) for unit, some in zip(units, sharing, strict=True)])
    found = []
    for number, (unit, also) in enumerate(zip(units, shared, strict=True)):
        more = [one for (of, _), one in tried.items() if of == number and _doubled(one) in mended]
        found.append(Unit(unit.group, (*unit.options, *more, *also.options)))
    return found


def _first(pairs: list[_Pairs]) -> dict[_Doubled, str]:
    """The name of the first option for each thing that there could be two of, where that could mend anything."""
    found: dict[_Doubled, str] = {}
    for some in pairs:
        for pair, lacks in some.items():
            if _could_be_mended(lacks):
                found.setdefault(_doubled(pair), pair.name)
    return found


def _judged(
    judge: Judge, units: list[Unit], pairs: list[_Pairs], kinds: Container[_Kind]
) -> dict[tuple[int, Option], Option]:
    """The pairs of these kinds that could mend something, by unit, with what they break."""
    chosen = [
        tuple(pair for pair, one in some.items() if _could_be_mended(one) and _kind(pair) in kinds) for some in pairs
    ]
    answered = judge.judged([Unit(unit.group, some) for unit, some in zip(units, chosen, strict=True)])
    return {
        (number, pair): one
        for number, unit in enumerate(answered)
        for pair, one in zip(chosen[number], unit.options, strict=True)
    }


def _could_be_mended(option: Option) -> bool:
    """Whether it breaks a need, and carries its traffic for all that."""
    return bool(option.fails) and not {*option.fails} & {PRIVATE, *UNCARRIED}


def _doubled(option: Option) -> _Doubled:
    sites = (*option.distinct, *option.before)
    return frozenset((site.network, site.offer, bool(site.standby)) for site in sites if site.units > 1)


def _kind(option: Option) -> _Kind:
    return _doubled(option), option.name


def _pairs(described: Described, option: Option, kept: Container[str]) -> Iterator[Option]:
    """The option with two of each machine or node that it has one of; with the second in another zone, too."""
    passed = dict.fromkeys((*option.distinct, *option.before))
    single = [one for one in passed if is_single(described, one) and one.existing not in kept]
    if not single:
        return
    yield with_sites(option, {one: replace(one, units=2) for one in single}, f"{option.name}, in pairs")
    if len(single) == 1 and single[0].zone and not option.before and not single[0].apart:
        for zone in _other_zones(described, single[0]):
            pair = replace(single[0], units=2, standby=zone)
            yield with_sites(option, {single[0]: pair}, f"{option.name}, with a second in zone {zone}")


def with_sites(option: Option, instead: Mapping[Site, Site], name: str) -> Option:
    """The option with other sites in the place of these, which is not judged so far."""
    return replace(
        option,
        name=name,
        fails=(),
        sites=tuple(instead.get(one, one) for one in option.sites),
        before=tuple(instead.get(one, one) for one in option.before),
        also=tuple(instead.get(one, one) for one in option.also),
    )


def is_single(described: Described, site: Site) -> bool:
    """Whether it runs one machine or node, and could run more."""
    offer = described.catalogue.offers.get(site.offer)
    if offer is None or not issubclass(KINDS[offer.kind], Counted):
        return False
    return site.units == 1 and (not site.existing or described.estate.exits[site.existing].units == 1)


def _other_zones(described: Described, site: Site) -> list[str]:
    """The other zones of its network in which there are subnets, where a second machine may be in another."""
    kind = KINDS[described.catalogue.offers[site.offer].kind]
    if not issubclass(kind, Counted) or not kind.standby_key:
        return []
    zones = (one.zone for one in described.estate.subnets.values() if one.network == site.network and one.zone)
    return [zone for zone in dict.fromkeys(zones) if zone != site.zone]
