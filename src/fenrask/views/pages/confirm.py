"""Observations against the plan, as a page; and the observations to make, as a table to fill in."""

import csv
import io
from collections.abc import Iterator, Sequence

from fenrask.estate import Estate
from fenrask.estate.remotes import INTERNET
from fenrask.evaluation import Evaluation
from fenrask.prefixes import Address
from fenrask.records.compared import DIFFERENT, NOT_SEEN, Compared
from fenrask.records.confirming import Confirmed
from fenrask.records.outside import Outcome, attempts, host_of, outcomes
from fenrask.routing import FlowPath, Trace
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table
from fenrask.views.quoting import visible

__all__ = ["confirm_page", "observations_to_make"]

_COLUMNS = (
    Column("subnet", "from", is_answer=True),
    Column("destination", "to", is_answer=True),
    Column("planned", "planned source", is_answer=True),
    Column("seen_as", "source seen", is_answer=True),
    Column("times", "times", "count"),
    Column("verdict", "verdict", is_answer=True),
)
_COMPARED = (
    Column("what", "what"),
    Column("about", "of"),
    Column("item", "item", is_answer=True),
    Column("planned", "planned", is_answer=True),
    Column("seen", "seen", is_answer=True),
    Column("verdict", "verdict", is_answer=True),
)
_DIFFERENCES = (
    Column("subnet", "from", is_answer=True),
    Column("destination", "to", is_answer=True),
    Column("verdict", "verdict", is_answer=True),
    Column("cause", "likely cause", below="likely: "),
    Column("check_next", "check next", below="→ "),
)


def confirm_page(
    estate: str,
    found: Sequence[Confirmed],
    compared: Sequence[Compared] = (),
    unread: Sequence[str] = (),
    others: Sequence[str] = (),
) -> Page:
    """Every observation's verdict, the doubtful first; for each difference its likely cause and what to check next.

    unread: what could not be read; others: what was read and is about something else.
    """
    ordered = sorted(found, key=lambda confirmed: (confirmed.well, not confirmed.differs))
    rows = [(one.subnet or "any", one.destination, one.planned, one.seen_as, one.times, one.verdict) for one in ordered]
    causes = [
        (one.subnet or "any", one.destination, one.verdict, one.cause, one.check_next)
        for one in ordered
        if not one.well
    ]
    by_verdict = sorted(compared, key=lambda row: row.verdict != DIFFERENT)
    causes += [
        (f"{one.what} of {one.about}", one.item, one.verdict, one.cause, one.check_next)
        for one in by_verdict
        if one.verdict == DIFFERENT
    ]
    differ = sum(one.differs for one in found) + sum(one.verdict == DIFFERENT for one in compared)
    verdicts = [*(one.verdict for one in found), *(one.verdict for one in compared)]
    unseen = verdicts.count(NOT_SEEN)
    whole = len(verdicts)
    planned = whole - differ - unseen
    summary = f"{counted(whole, 'comparison')}: {planned} as planned, {differ} different, {unseen} not seen yet"
    if unread:
        summary += f"; {counted(len(unread), 'row')} not read"
    tables = []
    if found or not compared:
        tables.append(Table("observed", "Sources seen", _COLUMNS, rows, empty="nothing was observed", shown=16))
    if compared:
        measured = [(one.what, one.about, one.item, one.planned, one.seen, one.verdict) for one in by_verdict]
        tables.append(Table("compared", "Metrics, routes, names and bill", _COMPARED, measured, shown=16))
    tables.append(
        Table(
            "differences",
            "What differs",
            _DIFFERENCES,
            causes,
            empty="nothing",
            as_blocks=True,
            shown=24,
            is_answer=True,
        )
    )
    facts = {"as_planned": planned, "different": differ, "not_seen": unseen}
    return Page("confirm", estate, (summary,), tuple(tables), facts, (*unread, *others))


def observations_to_make(evaluation: Evaluation) -> str:
    """One row for each class of packets, from inside and from outside: what is planned, how to look, what was seen.

    Those that must not arrive are among them. Filled in, it is read by `confirm`; it serves before a change and after.
    """
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\n")
    writer.writerow(["when", "from", "destination", "port", "seen_as", "must", "planned", "how"])
    rows = dict.fromkeys((*_from_inside(evaluation), *_from_outside(evaluation)))
    writer.writerows([visible(cell) for cell in row] for row in rows)
    return buffer.getvalue()


_Row = tuple[str, str, str, str, str, str, str, str]
_MUST, _MUST_NOT, _CAN = "must", "must not", "can"


def _host_in(trace: Trace) -> Address:
    """An address that answers, of those that a trace is to."""
    blocks = trace.portion.targets
    return host_of(blocks[0]) if blocks else trace.packet.address


def _sending(port: int, protocol: str, target: str) -> str:
    return f"nc -zvu -w3 {target} {port}" if protocol == "udp" else f"nc -zv -w3 {target} {port}"


def _from_inside(evaluation: Evaluation) -> Iterator[_Row]:
    """By subnet and destination; by addresses where some are treated unlike others."""
    estate = evaluation.described.estate
    classes: dict[tuple[object, ...], list[FlowPath]] = {}
    for path in evaluation.paths.where(lambda _: True):
        portion = path.trace.portion
        key = (path.subnet, path.to, portion.sources, portion.targets, portion.names, path.trace.verdict.arrives)
        classes.setdefault(key, []).append(path)
    for some in classes.values():
        trace, to = some[0].trace, some[0].to
        destination, portion = estate.destinations[to], trace.portion
        sender = str(portion.sources[0].address) if portion.hosts != 1 and portion.sources else some[0].subnet
        named = portion.names or destination.names
        is_part = portion.addresses != 1 and bool(portion.targets)
        target = named[0] if named and not is_part else str(_host_in(trace))
        port = destination.port or 443
        arrives = trace.verdict.arrives
        sources = dict.fromkeys(str(one.trace.source) for one in some)
        planned = " or ".join(sources) if arrives else f"no answer ({trace.verdict.value})"
        look = "then read the source address in the destination's log" if arrives else "it must fail: write -"
        how = f"on a host of {sender}: {_sending(port, destination.protocol, target)}; {look}"
        shown = target if is_part else to
        yield "", sender, shown, "", "", _MUST if arrives else _MUST_NOT, planned, how


def _is_nowhere(estate: Estate, outcome: Outcome) -> bool:
    """Whether there is nothing on the internet that such an attempt could be sent to."""
    asked = outcome.attempt
    if asked.origin != INTERNET or asked.to not in estate.workloads or estate.workloads[asked.to].public_address:
        return False
    return not any(trace.inward is not None and trace.inward.published_at for trace in outcome.traces)


def _from_outside(evaluation: Evaluation) -> Iterator[_Row]:
    """Of what nothing tells apart one port each: who comes from outside, to which hosts, and whether it gets there."""
    described = evaluation.described
    told = set[tuple[object, ...]]()
    for some in outcomes(described, attempts(described)).values():
        for outcome in some:
            asked, subnet = outcome.attempt, outcome.traces[0].subnet if outcome.traces else ""
            key = (asked.origin, asked.to, subnet, outcome.arrives, outcome.why, outcome.part)
            if key in told or _is_nowhere(described.estate, outcome):
                continue
            told.add(key)
            sender = str(asked.host or asked.origin)
            inward = outcome.traces[0].inward if outcome.traces else None
            to, at = str(asked.target or asked.to), asked.port
            where = f"a host of {asked.to}" + (f" in {subnet}" if subnet else "")
            if asked.to in described.estate.exits:
                where = f"the address of {asked.to}"
            if inward is not None and inward.published_at:
                listed = described.estate.exits[inward.published_at].listed_addresses
                where, at = str(listed[0]) if listed else f"an address of {inward.published_at}", inward.published_port
            elif asked.target is not None or asked.to in described.estate.destinations:
                stated = described.estate.destinations.get(asked.to)
                where = str(asked.target or (stated.names[0] if stated and stated.names else asked.to))
            look = "then read the source address on the host" if outcome.arrives else "it must fail: write -"
            planned = (outcome.source or "an answer") if outcome.arrives else f"no answer ({outcome.why})"
            origin = "on the internet" if asked.origin == INTERNET else f"of {asked.origin}"
            how = f"from a host {origin}: {_sending(at, asked.protocol, where)}; {look}"
            must = _CAN if outcome.could else _MUST_NOT if not outcome.arrives else _MUST if outcome.is_needed else _CAN
            yield "", sender, to, str(asked.port), "", must, planned, how
