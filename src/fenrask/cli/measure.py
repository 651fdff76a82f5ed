"""`fenrask measure`."""

import json
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from time import monotonic
from typing import Annotated

import typer

from fenrask.cli.files import check_writable, write_whole
from fenrask.cli.options import Call, shared_options, split_words
from fenrask.cli.records import Columns, check_some, columns_of
from fenrask.cli.workers import executor_of, number_of, processors
from fenrask.errors import Place, Problem, UnusableInput, WorkersLost
from fenrask.estate import Described
from fenrask.estate.suggestions import some
from fenrask.progress import gone_through
from fenrask.records.batch import Batch, Unread, settled_batches
from fenrask.records.matching import Pairs
from fenrask.records.measuring import Loads, measured, measured_json, stated_rates
from fenrask.records.parts import Part, Reading, part_of, whole_of
from fenrask.records.proposal import proposal
from fenrask.records.readers import Quiet, Share, read_records
from fenrask.records.runs import Room
from fenrask.records.stitching import stitched
from fenrask.records.summary import Summary, spanned
from fenrask.records.tallying import summarised
from fenrask.units import counted
from fenrask.views.page import Page
from fenrask.views.pages.measure import measure_page, unmatched_lines

__all__ = ["command"]


@shared_options
def command(
    call: Call,
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ESTATE] RECORDS...",
            help="The estate file; and files of connection records, `-` for standard input, packed or not: CSV, "
            "Parquet, NetFlow v5 or v9, IPFIX, NAT events in either, packet captures, events of Linux connection "
            "tracking (text or XML).",
        ),
    ] = None,
    columns: Columns = None,
    active: Annotated[
        float | None,
        typer.Option(
            "--active-timeout",
            metavar="SECONDS",
            min=0,
            help="Put records together that the exporter cut at this timeout, of tables and across files; those of one "
            "file must come in order of time.",
        ),
    ] = None,
    workers: Annotated[
        str,
        typer.Option(
            metavar="NUMBER|ADDRESS",
            help="How many files, or shares of a large one, are read at once here (default: 1; from 64 MB on as many "
            "as there are processors), or the address of a Dask scheduler.",
        ),
    ] = "",
    memory: Annotated[
        float,
        typer.Option(
            metavar="GIB",
            min=0.5,
            max=2**20,
            help="About how much memory counting may take; what is more waits in the folder for temporary files.",
        ),
    ] = 1.0,
    save: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Write the loads; flows refer to them by `measured: FILE`.")
    ] = None,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw rates, concurrent connections and durations (.png, .svg or .pdf)."),
    ] = None,
    listen: Annotated[
        str | None,
        typer.Option(
            metavar="[ADDRESS:]PORT",
            help="Instead of files: collect what exporters send there, NetFlow v5, v9 and IPFIX over UDP, IPFIX over "
            "TCP; default address: this host alone (127.0.0.1). --save is written whole each minute.",
        ),
    ] = None,
    for_s: Annotated[
        float | None,
        typer.Option("--for", metavar="SECONDS", min=0, help="How long to listen; default: until Ctrl-C."),
    ] = None,
    replay: Annotated[
        bool,
        typer.Option(
            "--replay",
            help="Also send the records, as they were, through the ports that the estate has with what was measured.",
        ),
    ] = False,
    propose: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE", help="Write what the estate lacks (destinations, workloads, flows) as a JSON Merge Patch."
        ),
    ] = None,
) -> int:
    estate, files = _asked(words or [], listen, for_s, [("--replay", replay), ("--active-timeout", active is not None)])
    described = replace(call, estate=estate or call.estate).read(to_be_measured=True)
    pairs, fields = Pairs(described.estate), columns_of(columns or [])
    with TemporaryDirectory(prefix="fenrask-") as folder:
        seen = _Seen(Reading(fields, pairs, Quiet.of(described)), Room(folder, int(memory * 2**30)))
        if listen is not None:
            _listened(call, listen, for_s, save, seen)
        elif active is None:
            _read_each(call, files, workers, seen)
        else:
            _read_stitched(files, active, seen)
        if not seen.stopped and listen is None:
            check_some(seen.formats, seen.unread)
        whole = seen.whole
        loads = Loads(whole, pairs, measured(whole, pairs), stated_rates(described))
        drawn = _drawn(figure, described, loads)
    tables = {file: of for file, of in seen.guessed.items() if of}
    page = measure_page(described.estate.estate, loads, seen.unread, seen.formats, tables)
    page = replace(page, summary=(*page.summary, *unmatched_lines(described.estate, whole)))
    if replay and loads.found:
        page = _with_replay(page, described, loads, files, fields)
    call.show(page)
    if save:
        (call if listen is None else replace(call, force=True)).write(save, measured_json(loads.found))
    if figure:
        call.write(figure, drawn)
    if propose:
        call.write(
            propose, (json.dumps(proposal(described.estate, whole, loads.found, save), indent=2) + "\n").encode()
        )
    return (
        2
        if seen.unread.broken_off
        else int(not (loads.found or whole.listed.keys.size or whole.sampled) or seen.stopped)
    )


def _drawn(figure: Path | None, described: Described, loads: Loads) -> bytes:
    """The figure, where one is asked for: it looks at every connection's time."""
    if figure is None:
        return b""
    from fenrask.views.figures.measured import draw_measured

    return draw_measured(described.estate.estate, loads, figure.suffix)


def _with_replay(page: Page, described: Described, loads: Loads, files: list[str], columns: dict[str, str]) -> Page:
    """The page with what the same records find through the ports, as loads that were measured ask for them."""
    from fenrask.evaluation import evaluate
    from fenrask.records.applied import with_loads
    from fenrask.records.replaying import log_of, replayed
    from fenrask.views.pages.replayed import replayed_page

    if "-" in files:
        raise UnusableInput([Problem(Place(path="--replay"), "standard input", "files, which are read twice")])
    known, flows = with_loads(described, loads.found)
    unread = Unread({})
    quiet = Quiet.of(described)
    each = (read_records(file, unread, columns, quiet)[2] for file in files)
    batches = (batch for some in each for batch in settled_batches([*some]))
    found = [*replayed(log_of(batches, loads.pairs), evaluate(known).capacity, loads.pairs)]
    told = replayed_page(known.estate, found, {}, unread)
    lines = (*page.summary, f"With the load measured of {some(flows)}:", *told.summary) if flows else page.summary
    return replace(page, summary=lines, tables=(*page.tables, *told.tables))


@dataclass
class _Seen:
    """What was read so far, and how."""

    reading: Reading
    room: Room
    """For what is counted."""
    whole: Summary = field(default_factory=Summary)
    formats: dict[str, str] = field(default_factory=dict)
    guessed: dict[str, Mapping[str, str]] = field(default_factory=dict)
    unread: Unread = field(default_factory=lambda: Unread({}))
    stopped: bool = False


_EVERY_S = 60.0
"""How often what was collected is written."""
_PORTS = range(1, 65536)


def _place(listen: str) -> tuple[str, int]:
    """The address and port to listen at."""
    address, _, port = listen.rpartition(":")
    if not port.isdecimal() or int(port) not in _PORTS:
        raise UnusableInput([Problem(Place(path="--listen"), repr(listen), "a port, or ADDRESS:PORT")])
    return address.strip("[]") or "127.0.0.1", int(port)


def _listened(call: Call, listen: str, for_s: float | None, save: Path | None, seen: _Seen) -> None:
    """What exporters send, until the time has passed or the user stops it; what there is is written each minute."""
    from fenrask.records.collecting import Collector, Listener

    pairs = seen.reading.pairs
    collector = Collector(pairs, seen.reading.quiet, _room(seen.room))
    if save:
        check_writable(save, call.force)

    def report() -> None:
        whole = collector.so_far()
        loads = measured(whole, pairs)
        senders = counted(len(collector.exporters), "exporter")
        call.say(f"{whole.records:,} records of {senders} in {collector.messages:,} messages")
        if save:
            write_whole(save, measured_json(loads), force=True)

    with Listener(*_place(listen), collector) as listener:
        call.say(f"listening at {listener.address}:{listener.port}, UDP and TCP")
        with suppress(KeyboardInterrupt):
            listener.run(for_s, _EVERY_S, report)
        senders = collector.exporters
    seen.whole, seen.unread = collector.end(), collector.unread
    seen.formats = dict.fromkeys(senders, "NetFlow v5, v9 or IPFIX")


def _asked(
    words: list[str], listen: str | None, for_s: float | None, of_files: list[tuple[str, bool]]
) -> tuple[Path | None, list[str]]:
    """The estate and the files; a usage error where these, and the options of files, do not go together."""
    estate, files = split_words(words, 0)
    if listen is None and not files:
        raise typer.BadParameter("give at least one file of records, or --listen")
    if listen is not None and files:
        raise typer.BadParameter("--listen, or files: one of the two")
    if listen is not None and (given := [name for name, is_given in of_files if is_given]):
        raise typer.BadParameter(f"{' and '.join(given)} is for files, not for --listen")
    if for_s is not None and listen is None:
        raise typer.BadParameter("--for says how long to --listen")
    return estate, files


def _read_stitched(files: list[str], active: float, seen: _Seen) -> None:
    """All files as one, with pieces of one connection put together."""
    spans: dict[str, tuple[int, int]] = {}
    batches = stitched(_batches(files, seen, spans), active)
    seen.whole = summarised(batches, seen.reading.pairs, room=_room(seen.room))
    seen.whole.spans |= spans


def _batches(files: list[str], seen: _Seen, spans: dict[str, tuple[int, int]]) -> Iterator[Batch]:
    columns, quiet = seen.reading.columns, seen.reading.quiet
    for file in sorted(files, key=lambda file: _begins(file, columns)) if len(files) > 1 else files:
        seen.formats[file], seen.guessed[file], found = read_records(file, seen.unread, columns, quiet)
        yield from spanned(found, file, spans)


def _begins(file: str, columns: Mapping[str, str]) -> float:
    """When about the first record of a file begins, s since 1970; what is wrong with it is told when it is read."""
    if file == "-":
        raise UnusableInput([Problem(Place(path="--active-timeout"), "standard input", "it alone, or files")])
    first = next((batch for batch in read_records(file, Unread({}), columns)[2] if len(batch)), None)
    return float(first.start_s.min()) if first is not None else 0.0


def _read_each(call: Call, files: list[str], workers: str, seen: _Seen) -> None:
    """File by file; what is done stays when the user stops it."""
    begun, done = monotonic(), 0
    try:
        for part in _parts(files, workers, seen):
            seen.whole, done = (seen.whole + part.summary).kept_in(_room(seen.room)), done + 1
            seen.formats[part.file], seen.guessed[part.file] = part.format, dict(part.guessed)
            seen.unread += part.unread
            took = monotonic() - begun
            if took > _QUICK_S:
                rest = f", {took / done * (len(files) - done):.0f} s left" if done < len(files) else ""
                call.say(f"read {part.file}: {part.format}, {seen.whole.records / took:,.0f} records/s{rest}")
    except (KeyboardInterrupt, WorkersLost) as stopped:
        seen.stopped = True
        why = str(stopped) or "from the keyboard"
        seen.unread.add(f"stopped after {done} of {len(files)} files", why, len(files) - done)


_QUICK_S = 2.0
"""Before this nobody waits for a word."""


def _parts(files: list[str], workers: str, seen: _Seen) -> Iterator[Part]:
    """Each file's part, as it is done; a worker that dies takes what it reads with it to another one."""
    sizes = [_size(file) for file in files]
    if not workers:
        workers = str(processors()) if sum(sizes) >= _LARGE and "-" not in files else "1"
    is_cluster, is_divided = ":" in workers, max(sizes) >= _DIVIDED
    if (not is_cluster and number_of(workers) == 1) or (not is_cluster and len(files) == 1 and not is_divided):
        yield from (part_of(file, seen.reading, room=_room(seen.room)) for file in files)
        return
    if "-" in files:
        raise UnusableInput([Problem(Place(path="--workers"), "standard input", "files that every worker can read")])
    # Shares of one file need not be sent from one process to another; several files need a process each.
    with executor_of(workers, processes=len(files) > 1) as executor:
        number = number_of(workers, executor)
        # Another machine has memory and disks of its own.
        room = None if is_cluster else _room(seen.room, number, number if len(files) > 1 else 1)
        shares = [number if size >= _DIVIDED and (is_cluster or len(files) == 1) else 1 for size in sizes]
        # Those of a cluster know a file by its whole path.
        paths = [str(Path(file).resolve()) if is_cluster else file for file in files]
        futures = [
            [executor.submit(part_of, path, seen.reading, Share(one, of), room) for one in range(of)]
            for path, of in zip(paths, shares, strict=True)
        ]
        for file, some in zip(files, futures, strict=True):
            yield replace(
                whole_of([future.result() for future in gone_through(some, "share of the records")]), file=file
            )


_PROGRAM_BYTES, _READING_BYTES = 384 * 2**20, 96 * 2**20
"""What a process takes that reads, beside what it counts; and one more that reads in it."""
_LEAST_BYTES = 32 * 2**20


def _room(whole: Room, shares: int = 1, processes: int = 1) -> Room:
    """What of the memory each of some shares may take for what it counts, beside what they come to together."""
    spare = whole.memory_bytes - processes * _PROGRAM_BYTES - (shares - processes) * _READING_BYTES
    return replace(whole, memory_bytes=max(_LEAST_BYTES, spare // (shares + (shares > 1))))


_DIVIDED, _LARGE = 8 * 10**6, 64 * 10**6
"""Bytes of a file from which on it is read by shares; of all files, from which on processes read them."""


def _size(file: str) -> int:
    try:
        return Path(file).stat().st_size
    except OSError:
        return 0
