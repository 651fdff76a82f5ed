"""`fenrask simulate`."""

import os
import sys
from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path
from time import monotonic
from typing import Annotated

import typer

from fenrask.capacity import Capacity, capacity, explain_capacity
from fenrask.checks.today import today
from fenrask.cli.completion import names
from fenrask.cli.failures import CaseName, LoseExit, LoseZone, asked_failure
from fenrask.cli.options import Call, Explain, estate_command
from fenrask.cli.records import Columns, check_some, columns_of
from fenrask.cli.workers import executor_of
from fenrask.demand import demand
from fenrask.derivation import Step
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described
from fenrask.estate.suggestions import unknown
from fenrask.evaluation import evaluate
from fenrask.progress import tell
from fenrask.routing import flow_paths
from fenrask.teletraffic.simulation import Found, Interrupted, Stop, Watch, replicated
from fenrask.units import percent
from fenrask.views.pages.explained import with_steps
from fenrask.views.pages.simulate import simulate_page
from fenrask.views.today import with_today
from fenrask.what_if import Asked, Outage, Simulated, as_sized, simulated

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    exit_: Annotated[
        list[str] | None,
        typer.Option(
            "--exit", metavar="EXIT", autocompletion=names("exits"), help="Simulate only this exit; may be repeated."
        ),
    ] = None,
    pools: Annotated[
        int, typer.Option(metavar="NUMBER", min=1, help="How many of each exit's busiest port pools to simulate.")
    ] = 1,
    lose_zone: LoseZone = None,
    lose_exit: LoseExit = None,
    case: CaseName = None,
    outage: Annotated[
        float | None,
        typer.Option(
            metavar="MINUTES",
            min=0.1,
            max=1440,
            help="Outage duration: the case starts at the peak and ends after this many minutes.",
        ),
    ] = None,
    around: Annotated[
        float | None,
        typer.Option(metavar="HOURS", min=0.1, max=168, help="Simulate only this many hours around the peak."),
    ] = None,
    precision: Annotated[
        float,
        typer.Option(
            metavar="SHARE", min=1e-4, max=1, help="Stop when the 95% interval is within this fraction of the result."
        ),
    ] = 0.1,
    runs: Annotated[
        int, typer.Option("--most-runs", metavar="NUMBER", min=2, max=100_000, help="Stop after this many runs.")
    ] = 200,
    connections: Annotated[
        float,
        typer.Option(
            "--most-connections", metavar="NUMBER", min=1, help="Stop after this many simulated connections per pool."
        ),
    ] = 3e7,
    seconds: Annotated[
        float, typer.Option(metavar="SECONDS", min=0.1, help="Stop after this many seconds in all.")
    ] = 300.0,
    seed: Annotated[
        int, typer.Option(metavar="NUMBER", min=0, max=2**31, help="Random seed. The same seed gives the same result.")
    ] = 1,
    workers: Annotated[
        str,
        typer.Option(metavar="NUMBER|ADDRESS", help="Number of runs at once here, or the address of a Dask scheduler."),
    ] = "",
    records: Annotated[
        list[str] | None,
        typer.Option(
            "--records",
            metavar="FILE",
            help="Instead, send these recorded connections (as `measure` reads them) through the ports as they were; "
            "may be repeated.",
        ),
    ] = None,
    columns: Columns = None,
    explain: Explain = False,
    figure: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Draw ports in use over time (.png, .svg or .pdf).")
    ] = None,
) -> int:
    described = call.read()
    estate, failure = described.estate, asked_failure(described, lose_zone, lose_exit, case)
    if outage and (failure is None or failure.case.storm_s):
        expected = "a --case, or a loss, that does not open all connections again"
        stated = f"the case {failure.name}" if failure else "no --case"
        raise UnusableInput([Problem(Place(path="--outage"), stated, expected)])
    _check_exits(described, exit_ or [])
    state = today(evaluate(described))
    if records:
        _check_alone(failure, outage, around, explain, figure)
        return _replay(call, described, records, columns_of(columns or []), exit_ or [])
    before = described
    if failure is not None:
        before = as_sized(evaluate(described)).described
        described = failure.struck(described)
    sized = capacity(demand(flow_paths(described))) if failure is not None else evaluate(described).capacity
    asked = Asked(pools, exit_ or [], around, failure.case.storm_s if failure else None)
    if outage:
        asked = replace(asked, outage=Outage(sized, outage * 60))
        sized = capacity(demand(flow_paths(before)))
    wanted = list(simulated(sized, asked))
    stop = Stop(precision, estate.targets.blocking / 10, runs, connections)
    results: list[tuple[Simulated, Found]] = []
    not_run: list[str] = []
    too_long = [one for one in wanted if one.setting.calls.of_a_run > _MOST_OF_A_RUN]
    wanted = [one for one in wanted if one.setting.calls.of_a_run <= _MOST_OF_A_RUN]
    _say_what_takes_long(call)
    ends = monotonic() + seconds
    with executor_of(workers) as executor:
        for pool in wanted:
            if not_run or (results and results[-1][1].interrupted) or monotonic() > ends:
                not_run.append(f"{pool.exit}, {pool.pool}: not started")
                continue
            told = partial(tell, f"{pool.exit}, {pool.pool}: run")
            try:
                found = replicated(pool.setting, executor, stop, seed, Watch(told, lambda: monotonic() > ends))
            except Interrupted as stopped:
                not_run.append(f"{pool.exit}, {pool.pool}: {stopped}")
                continue
            results.append((pool, found))
    target = estate.targets.blocking
    words = "one run alone has {:.2g} connections; simulate fewer hours (--around)"
    long = [f"{one.exit}, {one.pool}: {words.format(one.setting.calls.of_a_run)}" for one in too_long]
    page = with_today(
        simulate_page(estate.estate, target, results, failure.name if failure else "", [*long, *not_run]), state
    )
    call.show(with_steps(page, _steps(sized, results)) if explain else page)
    if figure:
        from fenrask.views.figures.simulated import draw_simulated

        call.write(figure, draw_simulated(estate.estate, results, figure.suffix))
    too_many = any(found.low > target or one.standing_share > target for one, found in results)
    status = int(too_many or not state.is_well)
    if not_run or any(found.interrupted for _, found in results):
        # Runs that were begun would be waited for: nobody asks for them any more.
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(status)
    return status


def _check_alone(*others: object) -> None:
    """UnusableInput where records are to be replayed and any of these options is given."""
    if any(others):
        expected = "neither --case, a loss, --outage, --around, --explain nor --figure: records are as they were"
        raise UnusableInput([Problem(Place(path="--records"), "another option beside it", expected)])


def _replay(call: Call, described: Described, files: list[str], columns: dict[str, str], exits: list[str]) -> int:
    """Records through the ports as they were, and what flows do not say of how they came."""
    from fenrask.records.batch import Batch, Unread, settled_batches
    from fenrask.records.matching import Pairs
    from fenrask.records.measuring import measured
    from fenrask.records.readers import Quiet, read_records
    from fenrask.records.replaying import log_of, replayed, unsaid
    from fenrask.records.tallying import summarised
    from fenrask.views.pages.replayed import replayed_page

    unread, pairs = Unread({}), Pairs(described.estate)
    formats, batches = dict[str, str](), list[Batch]()
    for file in files:
        formats[file], _, some = read_records(file, unread, columns, Quiet.of(described))
        batches += settled_batches([*some])
    check_some(formats, unread)
    summary = summarised(batches, pairs)
    evaluation = evaluate(described)
    sized, state = evaluation.capacity, today(evaluation)
    found = [*replayed(log_of(batches, pairs), sized, pairs, exits)]
    why = unsaid(sized, measured(summary, pairs))
    call.show(with_today(replayed_page(described.estate, found, why, unread, summary.lost), state))
    target = described.estate.targets.blocking
    return int(not found or any(one.share > target for one in found) or not state.is_well)


def _steps(sized: Capacity, results: list[tuple[Simulated, Found]]) -> Iterator[Step]:
    """The formula's figures of the exits simulated, and how the interval is computed."""
    exits = {one.exit for one, _ in results}
    yield from (step for step in explain_capacity(sized) if step.about in exits)
    for pool, found in results:
        working = f"{found.blocked:,} of {found.attempts:,} new connections in {found.runs} independent runs"
        interval = f"{percent(found.low)} to {percent(found.high)}"
        yield Step(f"{pool.exit}, {pool.pool}", "95% interval", interval, working, "ratio estimator (Cochran 1977)")


_MOST_OF_A_RUN = 1e9


def _say_what_takes_long(call: Call) -> None:
    from fenrask.compiling import first_use
    from fenrask.teletraffic.simulation.kernels.pool import pool

    if word := first_use(pool):
        call.say(word)


def _check_exits(described: Described, names: list[str]) -> None:
    known = [name for name, one in described.estate.exits.items() if one.translates]
    if problems := unknown("--exit", names, known, "an exit that translates"):
        raise UnusableInput(problems)
