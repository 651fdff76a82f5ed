"""`fenrask measure`."""

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from time import monotonic
from typing import Annotated

import typer

from fenrask.cli.options import Call, shared_options, split_words
from fenrask.cli.records import Columns, check_some, columns_of
from fenrask.cli.workers import executor_of
from fenrask.errors import Place, Problem, UnusableInput, WorkersLost
from fenrask.estate import Described
from fenrask.estate.suggestions import some
from fenrask.records.batch import Batch, Unread
from fenrask.records.matching import Pairs
from fenrask.records.measuring import Measured, measured, measured_file, stated_rates
from fenrask.records.parts import Part, part_of
from fenrask.records.proposal import proposal
from fenrask.records.readers import Quiet, read_records
from fenrask.records.stitching import stitched
from fenrask.records.summary import Summary, spanned, summarised
from fenrask.views.page import Page
from fenrask.views.pages.measure import held_twice, measure_page

__all__ = ["command"]


@shared_options
def command(
    call: Call,
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="[ESTATE] RECORDS...",
            help="The estate file; and files of connection records, `-` for standard input, packed or not: CSV, "
            "Parquet, NetFlow v5 or v9, IPFIX, NAT events in either, packet captures, events of Linux connection "
            "tracking (text or XML).",
        ),
    ],
    columns: Columns = None,
    active: Annotated[
        float | None,
        typer.Option(
            "--active-timeout",
            metavar="SECONDS",
            min=0,
            help="Put records together that the exporter cut at this timeout; records must come in order of time.",
        ),
    ] = None,
    workers: Annotated[
        str,
        typer.Option(
            metavar="NUMBER|ADDRESS", help="Files read at once here (default: 1), or the address of a Dask scheduler."
        ),
    ] = "1",
    save: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Write the loads; flows refer to them by `measured: FILE`.")
    ] = None,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw rates, concurrent connections and durations (.png, .svg or .pdf)."),
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
    estate, files = split_words(words, 0)
    if not files:
        raise typer.BadParameter("give at least one file of records")
    described = replace(call, estate=estate or call.estate).read(to_be_measured=True)
    pairs, seen = Pairs(described.estate), _Seen(Quiet.of(described))
    if active is None:
        _read_each(call, files, columns_of(columns or []), pairs, workers, seen)
    else:
        spans: dict[str, tuple[int, int]] = {}
        seen.whole = summarised(stitched(_batches(files, columns_of(columns or []), seen, spans), active), pairs)
        seen.whole.spans |= spans
    if not seen.stopped:
        check_some(seen.formats, seen.unread)
    whole = seen.whole
    loads = measured(whole, pairs)
    tables = {file: of for file, of in seen.guessed.items() if of}
    rates, name = stated_rates(described), described.estate.estate
    page = measure_page(name, whole, pairs, loads, rates, seen.unread, seen.formats, tables)
    page = replace(page, summary=(*page.summary, *held_twice(described.estate, whole)))
    if replay and loads:
        page = _with_replay(page, described, loads, pairs, files, columns_of(columns or []))
    call.show(page)
    if save:
        call.write(save, (json.dumps(measured_file(loads), indent=1) + "\n").encode())
    if figure:
        from fenrask.views.figures.measured import draw_measured

        call.write(figure, draw_measured(name, whole, pairs, loads, rates, figure.suffix))
    if propose:
        call.write(propose, (json.dumps(proposal(described.estate, whole, loads, save), indent=2) + "\n").encode())
    return 2 if seen.unread.broken_off else int(not (loads or whole.listed.keys.size) or seen.stopped)


def _with_replay(
    page: Page, described: Described, loads: list[Measured], pairs: Pairs, files: list[str], columns: dict[str, str]
) -> Page:
    """The page with what the same records find through the ports, as loads that were measured ask for them."""
    from fenrask.evaluation import evaluate
    from fenrask.records.applied import with_loads
    from fenrask.records.replaying import log_of, replayed
    from fenrask.views.pages.replayed import replayed_page

    if "-" in files:
        raise UnusableInput([Problem(Place(path="--replay"), "standard input", "files, which are read twice")])
    known, flows = with_loads(described, loads)
    unread = Unread({})
    quiet = Quiet.of(described)
    batches = (batch for file in files for batch in read_records(file, unread, columns, quiet)[2])
    found = [*replayed(log_of(batches, pairs), evaluate(known).capacity, pairs)]
    told = replayed_page(page.name, known.estate.targets.blocking, found, {}, unread, 0)
    lines = (*page.summary, f"With the load measured of {some(flows)}:", *told.summary) if flows else page.summary
    return replace(page, summary=lines, tables=(*page.tables, *told.tables))


@dataclass
class _Seen:
    """What was read so far."""

    quiet: Quiet
    whole: Summary = field(default_factory=Summary)
    formats: dict[str, str] = field(default_factory=dict)
    guessed: dict[str, Mapping[str, str]] = field(default_factory=dict)
    unread: Unread = field(default_factory=lambda: Unread({}))
    stopped: bool = False


def _batches(
    files: list[str], columns: dict[str, str], seen: _Seen, spans: dict[str, tuple[int, int]]
) -> Iterator[Batch]:
    for file in files:
        seen.formats[file], seen.guessed[file], found = read_records(file, seen.unread, columns, seen.quiet)
        yield from spanned(found, file, spans)


def _read_each(call: Call, files: list[str], columns: dict[str, str], pairs: Pairs, workers: str, seen: _Seen) -> None:
    """File by file; what is done stays when the user stops it."""
    begun, done = monotonic(), 0
    try:
        for part in _parts(files, columns, pairs, workers, seen.quiet):
            seen.whole, done = seen.whole + part.summary, done + 1
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


def _parts(files: list[str], columns: dict[str, str], pairs: Pairs, workers: str, quiet: Quiet) -> Iterator[Part]:
    """Each file's part, as it is done; a worker that dies takes its file with it to another one."""
    if workers == "1" or (len(files) == 1 and ":" not in workers):
        yield from (part_of(file, columns, pairs, quiet) for file in files)
        return
    if "-" in files:
        raise UnusableInput([Problem(Place(path="--workers"), "standard input", "files that every worker can read")])
    with executor_of(workers, processes=True) as executor:
        futures = [executor.submit(part_of, str(Path(file).resolve()), columns, pairs, quiet) for file in files]
        for file, future in zip(files, futures, strict=True):
            yield replace(future.result(), file=file)
