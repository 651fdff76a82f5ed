"""Records measured, as a page."""

import math
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime

import numpy as np

from fenrask.estate import Estate
from fenrask.estate.suggestions import some
from fenrask.prefixes import Prefix, overlap, parse_prefix
from fenrask.records.batch import STATES, Unread
from fenrask.records.days import PRIOR_CV
from fenrask.records.matching import Pairs
from fenrask.records.measuring import Loads, Measured
from fenrask.records.summary import Summary, key_parts
from fenrask.units import counted, percent
from fenrask.views.page import MACHINES, Column, MadeRows, Page, Table

__all__ = ["measure_page", "unmatched_lines"]

_LOADS = (
    Column("subnet", "from", is_answer=True),
    Column("destination", "to", is_answer=True),
    Column("connections", "connections", "count", is_answer=True),
    Column("new_per_s", "new/s", "rough", is_answer=True),
    Column("new_per_s_error", "± (std. error)", "rough", least_width=110),
    Column("stated_per_s", "stated, new/s", "rough"),
    Column("duration_s", "duration, s", "rough", is_answer=True),
    Column("p95_s", "95%, s", "rough", least_width=100),
    Column("fit", "fitted law", least_width=110),
    Column("fit_distance", "distance", "share", least_width=120),
    Column("concurrent_mean", "concurrent, mean", "rough", least_width=110),
    Column("concurrent_by_law", "by rate and law", "rough", least_width=130),
    Column("concurrent_peak", "concurrent, peak", "rough", is_answer=True),
    Column("batch", "at once", "rough", least_width=120),
    Column("rate_cv", "rate varies by", "share", least_width=100),
    Column("rate_steady_s", "for, s", "rough", least_width=120),
    Column("every_s", "job every, s", "rough", sparse=True),
    Column("spread_s", "within, s", "rough", sparse=True, least_width=120),
    Column("job_share", "of all", "share", sparse=True, least_width=120),
    Column("day_cv", "days vary by", "share", least_width=110),
    Column("next_day_low_per_s", "next day, 5%, new/s", "rough", least_width=110),
    Column("next_day_high_per_s", "95%, new/s", "rough", least_width=110),
    Column("growth_low_per_month", "a month, 5%", "share", sparse=True, least_width=120),
    Column("growth_per_month", "grows a month", "share", sparse=True, least_width=100),
    Column("growth_high_per_month", "95%", "share", sparse=True, least_width=120),
    Column("closed", "closed", "share", least_width=120),
    Column("reset", "reset", "share", least_width=120),
    Column("idle", "idle", "share", least_width=MACHINES),
    Column("half_closed", "half closed", "share", sparse=True, least_width=MACHINES),
    Column("rejected", "rejected", "share", sparse=True, least_width=110),
    Column("unanswered", "unanswered", "share", sparse=True, least_width=100),
    Column("udp_one_way", "one way", "share", sparse=True, least_width=110),
    Column("udp_streaming", "streams", "share", sparse=True, least_width=120),
    Column("still_open", "still open", "count", sparse=True, least_width=110),
    Column("continuing", "open before", "count", sparse=True, least_width=120),
    Column("addresses", "addresses", "count", least_width=100),
    Column("busiest_address", "busiest", "share", least_width=MACHINES),
    Column("bytes_out", "bytes out", "count", least_width=MACHINES),
    Column("bytes_in", "bytes in", "count", least_width=MACHINES),
    Column("concurrent_peak_at_s", "peak at", "count", least_width=MACHINES),
    Column("busiest_minute_per_s", "busiest minute, new/s", "rough", least_width=MACHINES),
    Column("by_hour_per_s", "through the day", "series", least_width=130),
)
_UNMATCHED = (
    Column("source", "from"),
    Column("target", "to"),
    Column("port", "port", "code"),
    Column("protocol", "protocol"),
    Column("records", "records", "count"),
)
_LISTED = (
    Column("subnet", "from", is_answer=True),
    Column("destination", "to", is_answer=True),
    Column("state", "state"),
    Column("entries", "entries", "count"),
    Column("left_s", "expires in, s, mean", "rough"),
)
_SAMPLED = (
    Column("subnet", "from", is_answer=True),
    Column("destination", "to", is_answer=True),
    Column("bytes_out", "bytes out", "count"),
    Column("bytes_in", "bytes in", "count"),
    Column("within", "within (95%)", "share"),
    Column("records", "records", "count"),
)
_BECAME = (Column("what", "they were"), Column("records", "records", "count"))
_PROTOCOLS = {6: "tcp", 17: "udp", 1: "icmp"}


def unmatched_lines(estate: Estate, summary: Summary) -> Iterator[str]:
    """Why records match nothing, where that is plain: subnets of several networks hold an address, or an exit does."""
    senders: dict[Prefix, int] = {}
    for (source, *_), number in summary.unmatched.items():
        prefix = parse_prefix(source)
        senders[prefix] = senders.get(prefix, 0) + number
    for prefix, number in senders.items():
        own = [name for name, one in estate.exits.items() if any(address in prefix for address in one.listed_addresses)]
        if own:
            yield (
                f"{counted(number, 'record comes', 'records come')} from {prefix}, where {some(own)} "
                f"{'has' if len(own) == 1 else 'have'} public addresses: if they are of these, they were taken "
                "beyond the translation, which hides the hosts. Take them on the hosts' side."
            )
    for prefix, holders in estate.held_twice:
        seen = (parse_prefix(end) for key in summary.unmatched for end in key[:2])
        if any(overlap(one, prefix) for one in seen if one.version == prefix.version):
            yield f"Addresses of {prefix} are of {' and of '.join(holders)}: their records match none of these."


def measure_page(
    estate: str,
    loads: Loads,
    unread: Unread,
    formats: Mapping[str, str],
    guessed: Mapping[str, Mapping[str, str]],
) -> Page:
    """The load of each subnet and destination, the most connections first; what matched nothing; what was not read.

    formats: of each file; guessed: of each, the columns that were taken for fields.
    """
    summary, found, stated = loads.summary, loads.found, loads.stated
    rows = MadeRows(range(len(found)), lambda place: _load(found[place], stated))
    strangers = sorted(summary.unmatched.items(), key=lambda pair: -pair[1])
    tables = [
        Table("loads", "Load by subnet and destination", _LOADS, rows, empty="no connection", shown=16),
        Table(
            "unmatched", "Records of no subnet or destination, the most first", _UNMATCHED,
            [(*key[:3], _PROTOCOLS.get(key[3], str(key[3])), number) for key, number in strangers],
            empty="none", shown=8,
        ),
    ]  # fmt: skip
    if sampled := [*_sampled(summary, loads.pairs)]:
        tables.insert(0, Table("sampled", "Volumes of samples, scaled", _SAMPLED, sampled, shown=16))
    if listed := [*_moment(summary, loads.pairs)]:
        tables.insert(0, Table("listed", "Entries that were open at one moment, by state", _LISTED, listed, shown=16))
    tables.append(Table("became", "What became of the records", _BECAME, [*_became(summary, found)], behind_all=True))
    columns = [(file, field, column) for file, of in guessed.items() for field, column in of.items()]
    if columns:
        headings = (Column("file", "file"), Column("field", "field"), Column("column", "column"))
        title = "Columns as they were taken (--map FIELD=COLUMN corrects)"
        tables.append(Table("columns", title, headings, columns, behind_all=True))
    facts = {
        "records": summary.records,
        "unmatched_records": summary.lost,
        "sampled_records": summary.sampled,
        "formats": dict(formats),
    }
    return Page("measure", estate, tuple(_lines(loads)), tuple(tables), facts, unread.told())


def _lines(loads: Loads) -> list[str]:
    """What was read, the largest load, how far it can be relied on, and where a flow states something else."""
    summary, found, stated = loads.summary, loads.found, loads.stated
    lost = summary.lost
    span = int(summary.looked_at[1].sum())
    days = f"{span / 86_400:.2g} days" if span > 129_600 else f"{span / 3600:.2g} hours"
    connections = counted(sum(one.connections for one in found), "connection")
    lines = [
        f"{counted(summary.records, 'record')} of {days}: {connections} of {counted(len(found), 'pair')} of subnet and "
        f"destination; {counted(lost, 'record matches', 'records match')} none of them."
    ]
    lines += _said(summary, found)
    if found:
        top = max(found, key=lambda measured: measured.concurrent_peak)
        lines.append(
            f"Most concurrent connections: {top.concurrent_peak:,} from {top.subnet} to {top.destination}; "
            "mapping timeouts come on top of these (see demand)."
        )
        lines.append(_kept(found))
        lines.append(_next_day(found))
        lines += _growing(found)
    if off := _differing(found, stated):
        measured, times = off
        pair = f"{measured.subnet} to {measured.destination}"
        lines.append(f"Least like its flow: {pair} opens {times:.2g} times as many as stated.")
    return lines


def _load(measured: Measured, stated: Mapping[tuple[str, str], float]) -> tuple[object, ...]:
    """The row of a load."""
    return (
        measured.subnet, measured.destination, measured.connections, measured.new_per_s,
        measured.new_per_s * measured.days.error,
        stated.get((measured.subnet, measured.destination)), measured.duration_s,
        measured.quantiles[0.95], _law(measured), measured.fit.distance,
        measured.concurrent, measured.concurrent_by_law, measured.concurrent_peak,
        (1 + measured.dispersion.burstiness) / 2, measured.dispersion.rate_cv, measured.dispersion.steady_s,
        measured.job.every_s if measured.job else None, measured.job.spread_s if measured.job else None,
        measured.job.share if measured.job else None, measured.days.cv,
        *(measured.new_per_s * bound for bound in measured.days.next_day),
        *((growth.low, growth.likely, growth.high) if (growth := measured.days.growth) else (None, None, None)),
        measured.endings.get("closed"), measured.endings.get("reset"), measured.endings.get("idle"),
        *(measured.endings.get(name) for name in ("half_closed", "rejected", "unanswered")),
        *(measured.endings.get(name) for name in ("udp_one_way", "udp_streaming")),
        measured.still_open or None, measured.continuing or None, measured.addresses,
        measured.busiest_address_share, measured.bytes_out, measured.bytes_in, measured.concurrent_peak_s,
        measured.busiest_minute_per_s, measured.days.by_hour,
    )  # fmt: skip


def _sampled(summary: Summary, pairs: Pairs) -> Iterator[tuple[object, ...]]:
    """The volumes of each pair with samples, the most first, and how sure they are: by what each record stands for.

    A record of several packets is taken for one of so many bytes: rather less sure than it is.
    """
    found = []
    for key, records in zip(summary.samples.keys.tolist(), summary.samples.values.tolist(), strict=True):
        square = float(summary.squares.within(key, key + 1).values.sum())
        out, back = (int(some.within(key, key + 1).values.sum()) for some in (summary.bytes_out, summary.bytes_in))
        within = 1.96 * 1024 * math.sqrt(square) / max(1, out + back)
        found.append((*pairs.name(key_parts(key)[0]), out, back, within, records))
    yield from sorted(found, key=lambda row: -(row[2] + row[3]))


def _became(summary: Summary, found: Sequence[Measured]) -> Iterator[tuple[str, int]]:
    """Each record once: what it was taken for. They add up to the records; what was not read is counted beside them."""
    for what, number in (
        ("connections that began", sum(one.connections for one in found)),
        ("connections that were open before", int(summary.continuing.values.sum())),
        ("pieces and other directions of these", summary.together),
        ("other directions alone: their volume", summary.replies),
        ("samples: their volume", summary.sampled),
        ("entries of a listing", int(summary.listed.values.sum())),
        ("of no subnet and destination", summary.lost),
    ):
        if number:
            yield what, number


_DOUBLED, _PIECES = 0.02, 0.02
"""By chance, and by clients that take the same port again, some records may look like others, or like pieces."""


def _said(summary: Summary, found: Sequence[Measured]) -> Iterator[str]:
    """What is said of the time that was looked at, and of records that are no whole connections."""
    if summary.silent_hours:
        yield f"In {counted(summary.silent_hours, 'hour')} of them no record begins: nothing came then."
    for begin, end in summary.gaps:
        yield f"Not looked at: {_when(begin)} to {_when(end)}, more than a day without a record between two files."
    if summary.doubled > _DOUBLED:
        yield (
            f"About {percent(summary.doubled)} of the records are there twice, as when two files or exporters say the "
            "same: they count twice; give one of them."
        )
    if summary.pieces > _PIECES:
        yield (
            f"About {percent(summary.pieces)} of the connections begin where another one at the same ends stops: they "
            "are pieces of longer ones. Put them together: --active-timeout SECONDS, as the exporter that cuts has it."
        )
    if summary.listed.keys.size:
        entries = counted(int(summary.listed.values.sum()), "entry was", "entries were")
        yield f"{entries} listed at one moment: what was open then, and no rate."
    yield from _cut_off(found)
    if summary.sampled:
        yield (
            f"{counted(summary.sampled, 'record is', 'records are')} of samples: they count by volume alone, scaled by "
            "how many packets stand for one."
        )


def _moment(summary: Summary, pairs: Pairs) -> Iterator[tuple[object, ...]]:
    """The entries of listings by pair and state, the most first, with the mean time until they expire."""
    order = np.argsort(-summary.listed.values, kind="stable")
    for place in order.tolist():
        key, entries = int(summary.listed.keys[place]), int(summary.listed.values[place])
        pair, state = key_parts(key)
        left = summary.listed_s.within(key, key + 1).values
        yield (*pairs.name(pair), STATES[state], entries, float(left.sum()) / entries)


def _cut_off(found: Sequence[Measured]) -> Iterator[str]:
    """What is said of connections whose beginning or end nobody saw."""
    before, after = sum(one.continuing for one in found), sum(one.still_open for one in found)
    if before:
        connections = counted(before, "connection was", "connections were")
        yield f"{connections} open before the first record: not counted as new."
    if after:
        connections = counted(after, "connection was", "connections were")
        yield f"{connections} still open at the last record: how long is estimated from longer ones (Kaplan-Meier)."


_ALIKE = 0.02


def _kept(found: Sequence[Measured]) -> str:
    """Whether what flows are given has as many connections open as were measured."""
    each = [(abs(one.concurrent_by_law / one.concurrent - 1), one) for one in found if one.concurrent]
    worst, measured = max(each, key=lambda pair: pair[0], default=(0.0, found[0]))
    if worst <= _ALIKE:
        return f"Rate times law is what was open in the mean, within {percent(worst)}: --save keeps it."
    return (
        f"Rate times law is not what was open in the mean: {measured.concurrent_by_law:.3g}, and "
        f"{measured.concurrent:.3g} were, from {measured.subnet} to {measured.destination}. Measure for longer."
    )


def _next_day(found: Sequence[Measured]) -> str:
    """How sure the loads are for the next day, of the one that is least so."""
    measured = max(found, key=lambda each: each.days.next_day[1] / each.days.last)
    low, high = (bound / measured.days.last - 1 for bound in measured.days.next_day)
    within = f"the next day is between {percent(-low)} below and {percent(high)} above what is planned (90% confidence)"
    days = counted(measured.days.number, "day")
    if not measured.days.free:
        return f"{days} cannot show how days vary. With {percent(PRIOR_CV)} assumed, {within}. Measure more days."
    grows = f" and grow by {100 * measured.days.trend:.2g}% a day" if measured.days.trend else ""
    pair = f"{measured.subnet} to {measured.destination}"
    return f"{days} vary by {percent(measured.days.cv)}{grows}: {within}, for {pair}, the least certain."


def _growing(found: Sequence[Measured]) -> Iterator[str]:
    """By how much the largest load that was measured over weeks grows in a month."""
    known = [one for one in found if one.days.growth]
    if not known:
        return
    measured = max(known, key=lambda each: each.concurrent_peak)
    growth = measured.days.growth
    assert growth is not None
    low, likely, high = (percent(each) for each in (growth.low, growth.likely, growth.high))
    yield (
        f"{measured.subnet} to {measured.destination} grows by {likely} a month ({low} to {high}, 90% confidence): "
        "--propose writes growth_per_month of each flow that states none."
    )


def _when(second: int) -> str:
    return f"{datetime.fromtimestamp(second, UTC):%Y-%m-%d %H:%M} UTC"


_LIKE = 1.25


def _differing(found: Sequence[Measured], stated: Mapping[tuple[str, str], float]) -> tuple[Measured, float] | None:
    """The load that is farthest from what its flows state, and how many times; None where all are near."""
    known = [(one, one.new_per_s / rate) for one in found if (rate := stated.get((one.subnet, one.destination), 0.0))]
    worst = max(known, key=lambda pair: max(pair[1], 1 / pair[1]), default=None)
    return worst if worst and max(worst[1], 1 / worst[1]) > _LIKE else None


def _law(measured: Measured) -> str:
    law = measured.fit.law
    return "as measured" if law["shape"] == "measured" else f"{law['shape']}, mean {law['mean']:.3g} s"
