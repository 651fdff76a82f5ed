"""What a ruleset of nft tells (`nft -j list ruleset`): source translation, its timers, and filters.

Those of what a machine itself sends and gets are its own; those of what it passes on for others are a firewall's rules.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from ipaddress import summarize_address_range
from typing import Any

from fenrask.prefixes import is_public, parse_address, parse_prefix
from fenrask.records.existing.facts import Facts, each_port

__all__ = ["read_ruleset"]

_MOST_ADDRESSES = 1024


def read_ruleset(entries: list[Any], file: str, machine: str, facts: Facts) -> None:
    """Take what the entries tell; filters are those of the subnet or workload that the file is named after."""
    addresses: dict[str, None] = {}
    chains: dict[tuple[str, str], Mapping[str, Any]] = {}
    sets = _sets(entries)
    for entry in map(_mapping, entries):
        timeout, rule, chain = (_mapping(entry.get(key)) for key in ("ct timeout", "rule", "chain"))
        _timers(timeout, f"{file} {timeout.get('name', '')}", machine, facts)
        if chain:
            chains[str(chain.get("table")), str(chain.get("name"))] = chain
        where = f"{file} {rule.get('table', '')} {rule.get('chain', '')}"
        parts = [
            _resolved(part, sets.get(str(rule.get("table")), {})) for part in map(_mapping, rule.get("expr") or ())
        ]
        addresses |= dict.fromkeys(_rewritten(parts, where, machine, facts))
        of = chains.get((str(rule.get("table")), str(rule.get("chain"))), {})
        if of.get("type") == "filter":
            _filter_rule(parts, of, f"{file} {rule.get('chain', '')} handle {rule.get('handle', '')}", machine, facts)
    for chain in chains.values():
        if chain.get("type") == "filter":
            _policy(chain, f"{file} {chain.get('name')}", machine, facts)
    if addresses:
        facts.add("exits", machine, "addresses", value=[*addresses], where=f"{file} snat")


def _rewritten(parts: Sequence[Mapping[str, Any]], where: str, machine: str, facts: Facts) -> Iterator[str]:
    """The public addresses that a rule rewrites sources to; whose sources it rewrites is noted."""
    for part in parts:
        if "snat" in part:
            yield from _translated(_mapping(part["snat"]), where, machine, facts)
        if "masquerade" in part:
            _is_translator(machine, where, facts)
    if any("snat" in part or "masquerade" in part for part in parts):
        for match in (_mapping(part.get("match")) for part in parts):
            found = _matched(match) or {}
            facts.served.setdefault(machine, []).extend((parse_prefix(one), where) for one in found.get("sources", ()))


_Sets = Mapping[str, list[Any]]
"""The elements of each named set of a table."""


def _sets(entries: Iterable[Any]) -> dict[str, dict[str, list[Any]]]:
    """By table; a set whose elements come and go has those of the moment."""
    found: dict[str, dict[str, list[Any]]] = {}
    for stated in (_mapping(_mapping(entry).get("set")) for entry in entries):
        elements = stated.get("elem")
        if isinstance(elements, list):
            values = [_mapping(_mapping(one).get("elem")).get("val", one) for one in elements]
            found.setdefault(str(stated.get("table")), {})[str(stated.get("name"))] = values
    return found


def _resolved(part: Mapping[str, Any], sets: _Sets) -> Mapping[str, Any]:
    """A part of a rule with the elements of a named set in its place; as it is, where the set has none."""
    match = _mapping(part.get("match"))
    right = match.get("right")
    if isinstance(right, str) and right.startswith("@") and right[1:] in sets:
        return {"match": {**match, "right": {"set": sets[right[1:]]}}}
    return part


def _policy(chain: Mapping[str, Any], where: str, machine: str, facts: Facts) -> None:
    """What becomes of packets that no rule of a chain matches."""
    hook, action = str(chain.get("hook")), "allow" if chain.get("policy", "accept") == "accept" else "deny"
    if hook == _PASSING:
        facts.passed.setdefault(machine, []).append(("", action, where))
    elif hook in _DIRECTIONS:
        facts.own_filters.append((machine, (f"{_DIRECTIONS[hook]}_default",), action, where))
        # Where a rule lets replies pass, that was told before.
        facts.own_filters.append((machine, ("stateful",), False, where))


def _mapping(value: Any) -> Mapping[str, Any]:
    return value if isinstance(value, Mapping) else {}


def _is_translator(machine: str, where: str, facts: Facts) -> None:
    facts.add("exits", machine, "kind", value="translator-host", where=where)
    facts.add("translators", machine, "told", value=True, where=where)


def _translated(snat: Mapping[str, Any], where: str, machine: str, facts: Facts) -> Iterator[str]:
    """The public addresses that sources are rewritten to."""
    _is_translator(machine, where, facts)
    ports = _mapping(snat.get("port")).get("range")
    if isinstance(ports, list) and len(ports) == 2:
        facts.add("translators", machine, "per_address", value=int(ports[1]) - int(ports[0]) + 1, where=where)
    with suppress(ValueError, TypeError):
        yield from (text for text in _listed(snat.get("addr")) if is_public(parse_prefix(text)))


def _listed(addr: Any) -> list[str]:
    """The addresses that a translation names: one, a range, a prefix, or several of these."""
    if isinstance(addr, str):
        return [str(parse_address(addr))]
    if isinstance(addr, list):
        return [text for one in addr for text in _listed(one)]
    stated = _mapping(addr)
    if isinstance(stated.get("range"), list) and len(stated["range"]) == 2:
        first, last = (parse_address(str(one)) for one in stated["range"])
        found = (str(each) for part in summarize_address_range(first, last) for each in part)
        return [one for one, _ in zip(found, range(_MOST_ADDRESSES), strict=False)]
    if prefix := _mapping(stated.get("prefix")):
        net = parse_prefix(f"{prefix.get('addr')}/{prefix.get('len')}")
        return [str(one) for one, _ in zip(net, range(_MOST_ADDRESSES), strict=False)]
    return [text for one in stated.get("set", ()) for text in _listed(one)]


def _timers(timeout: Mapping[str, Any], where: str, machine: str, facts: Facts) -> None:
    policy = _mapping(timeout.get("policy"))
    for word, ours in _TIMERS.get(str(timeout.get("protocol", "")), {}).items():
        if isinstance(policy.get(word), int):
            facts.add("translators", machine, ours, value=policy[word], where=where)


_TIMERS = {
    "tcp": {"established": "idle", "time_wait": "closed", "close": "reset", "syn_sent": "unanswered",
            "close_wait": "half_closed"},
    "udp": {"unreplied": "udp_one_way", "replied": "udp_answered"},
}  # fmt: skip
"""States of the kernel's connection tracking, by the endings that the catalogue has."""
_PASSING = "forward"
"""The hook that packets of others pass."""
_DIRECTIONS = {"output": "out", "input": "in"}
"""The hooks that a machine's own packets pass."""


def _filter_rule(
    parts: list[Mapping[str, Any]], chain: Mapping[str, Any], where: str, machine: str, facts: Facts
) -> None:
    """One rule, of the machine's own packets or of those that it passes on."""
    hook, keys = str(chain.get("hook")), {key for part in parts for key in part}
    if not keys.isdisjoint(("jump", "goto", "queue", "vmap")):
        facts.skip("a filter rule of nft that leads to another chain", where)
        return
    if keys.isdisjoint(("accept", "drop", "reject")):
        return
    if hook != _PASSING and hook not in _DIRECTIONS:
        facts.skip(f"filter rules of nft at the hook {hook}", where)
        return
    matches = [_mapping(part["match"]) for part in parts if "match" in part]
    states = [one for one in matches if "ct" in _mapping(one.get("left"))]
    if states and not all(_is_of_new(one) for one in states):
        # Replies to what was let through: the filter keeps state. A firewall always does.
        if hook != _PASSING:
            facts.own_filters.append((machine, ("stateful",), True, where))
        return
    rule: dict[str, Any] = {"action": "allow" if any("accept" in part for part in parts) else "deny"}
    for match in matches:
        found = {} if match in states else _matched(match)
        if found is not None and hook == _PASSING and "ports" in found:
            listed = each_port(found["ports"])
            found = None if listed is None else found | {"ports": listed}
        if found is None:
            facts.skip("a filter rule of nft that matches what is not modelled", where)
            return
        rule |= found
    name = f"rule {where.rpartition(' ')[2]}"
    if hook == _PASSING:
        facts.passed.setdefault(machine, []).append((name, rule, where))
    else:
        facts.own_filters.append((machine, (_DIRECTIONS[hook], name), rule, where))


def _is_of_new(match: Mapping[str, Any]) -> bool:
    """Whether it matches the first packet of a connection."""
    right = match.get("right")
    stated = _mapping(right).get("set", right)
    return "new" in (stated if isinstance(stated, list) else [stated])


def _matched(match: Mapping[str, Any]) -> dict[str, Any] | None:
    """One match as a key of a rule; None for what the estate has no key for, or what cannot be read."""
    left, right = _mapping(match.get("left")), match.get("right")
    payload, meta = _mapping(left.get("payload")), _mapping(left.get("meta"))
    if match.get("op", "==") != "==":
        return None
    stated = _mapping(right).get("set", right)
    values = stated if isinstance(stated, list) else [stated]
    try:
        if payload.get("field") in ("saddr", "daddr"):
            key = "sources" if payload["field"] == "saddr" else "prefixes"
            return {key: [text for one in values for text in _prefixes(one)]}
        if payload.get("field") == "dport" and payload.get("protocol") in ("tcp", "udp"):
            return {"protocol": payload["protocol"], "ports": [_span(one) for one in values]}
    except (ValueError, TypeError):
        return None
    if (meta.get("key") == "l4proto" or payload.get("field") == "protocol") and values in (["tcp"], ["udp"]):
        return {"protocol": values[0]}
    return None


def _prefixes(value: Any) -> Iterator[str]:
    """An address, a prefix, or the fewest prefixes of a range; ValueError for anything else."""
    stated = _mapping(value)
    if isinstance(ends := stated.get("range"), list) and len(ends) == 2:
        first, last = (parse_address(str(one)) for one in ends)
        yield from map(str, summarize_address_range(first, last))
    elif within := _mapping(stated.get("prefix")):
        yield str(parse_prefix(f"{within.get('addr')}/{within.get('len')}"))
    else:
        yield str(parse_prefix(str(value)))


def _span(value: Any) -> int | str:
    ends = _mapping(value).get("range")
    return f"{int(ends[0])}-{int(ends[1])}" if isinstance(ends, list) and len(ends) == 2 else int(value)
