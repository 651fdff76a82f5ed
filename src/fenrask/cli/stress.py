"""`fenrask stress`."""

from collections.abc import Mapping
from dataclasses import replace
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Annotated

import typer

from fenrask.checks.today import Today, today
from fenrask.cli.completion import cases as known_cases
from fenrask.cli.failures import LoseExit, LoseZone, check_case, check_one_way, named_case
from fenrask.cli.options import Call, Explain, estate_command
from fenrask.cli.workers import Cases, workers_for_cases
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Case, Described
from fenrask.evaluation import evaluate
from fenrask.units import exact
from fenrask.views.pages.explained import with_steps
from fenrask.views.pages.growth import growth_page, sensitivity_page
from fenrask.views.pages.stress import stress_page
from fenrask.views.today import with_today
from fenrask.what_if import Growth, Outcome, all_cases, grow, grow_apart, pairs_of, sensitivity, stress, stress_apart

__all__ = ["command"]

Names = list[str] | None


@estate_command
def command(
    call: Call,
    case: Annotated[
        Names,
        typer.Option(
            metavar="NAME",
            autocompletion=known_cases,
            help="Run only this case, stated or a single fault; may be repeated.",
        ),
    ] = None,
    lose_zone: LoseZone = None,
    lose_exit: LoseExit = None,
    lose_node: Annotated[Names, typer.Option(metavar="EXIT", help="Lose one node of this exit.")] = None,
    session_down: Annotated[
        Names, typer.Option(metavar="EXIT[/ROUTER]", help="Take this routing session down.")
    ] = None,
    slow: Annotated[
        Names, typer.Option(metavar="DESTINATION=TIMES", help="Connections to it last this many times as long.")
    ] = None,
    silent: Annotated[Names, typer.Option(metavar="DESTINATION", help="It no longer answers.")] = None,
    rejecting: Annotated[Names, typer.Option(metavar="DESTINATION", help="It rejects all connections.")] = None,
    resolver_down: Annotated[
        Names, typer.Option(metavar="DESTINATION", help="It resolves no names, of hosts that ask it.")
    ] = None,
    load_up: Annotated[float, typer.Option(metavar="SHARE", min=0, help="Raise all loads by this share.")] = 0.0,
    reopen: Annotated[
        float | None,
        typer.Option(metavar="SECONDS", min=1e-3, help="All connections are opened again within this time."),
    ] = None,
    pairs: Annotated[bool, typer.Option("--pairs", help="Also try every pair of single faults.")] = False,
    months: Annotated[
        int | None, typer.Option(metavar="MONTHS", min=1, max=240, help="Show instead growth over this many months.")
    ] = None,
    growth: Annotated[
        float,
        typer.Option(metavar="SHARE", min=-1, max=1, help="With --months: extra growth of all loads per month."),
    ] = 0.0,
    lead: Annotated[
        float | None,
        typer.Option(
            metavar="MONTHS", min=0, help="With --months: how long an order takes (default: by targets.lead_days)."
        ),
    ] = None,
    budget: Annotated[
        float | None, typer.Option(metavar="MONEY", min=0, help="With --months: monthly budget to check against.")
    ] = None,
    inputs: Annotated[bool, typer.Option("--inputs", help="Show instead the effect of +10% on each input.")] = False,
    workers: Cases = "1",
    explain: Explain = False,
    figure: Annotated[
        Path | None, typer.Option(metavar="FILE", help="With --months or --inputs: draw it (.png, .svg or .pdf).")
    ] = None,
) -> int:
    described = call.read()
    state = today(evaluate(described))
    if months is not None:
        with workers_for_cases(workers) as others:
            grows = partial(grow_apart, others[0]) if others else grow
            found = grows(described, months, growth, _money(budget))
        return _growth(call, described, found, figure, lead)
    if growth or lead is not None or budget is not None:
        raise UnusableInput([Problem(Place(path="--growth, --lead, --budget"), "no --months", "over how many months")])
    if inputs:
        return _inputs(call, described, figure, state)
    if figure:
        raise UnusableInput([Problem(Place(path="--figure"), "no --months and no --inputs", "one of them")])
    stated = dict(
        lose_zones=lose_zone or [],
        lose_exits=lose_exit or [],
        lose_nodes=dict.fromkeys(lose_node or [], 1),
        sessions_down=session_down or [],
        slow=_slow(slow or []),
        silent=silent or [],
        rejecting=rejecting or [],
        resolver_down=resolver_down or [],
        load_up=load_up,
        reopen_within_s=reopen,
    )
    check_one_way(any(stated.values()), bool(case))
    if any(stated.values()):
        cases = {"as asked": check_case(described, Case.model_validate(stated))}
    elif case:
        cases = {name: named_case(described, name) for name in case}
    else:
        cases = all_cases(described)
    if pairs:
        cases |= pairs_of(all_cases(described))
    outcomes = _looked_at(described, cases, workers, explain)
    left = [f"{name}: not looked at, stopped before" for name in [*cases][len(outcomes) :]]
    page = stress_page(described.estate.estate, described.catalogue.currency, outcomes)
    page = with_today(replace(page, not_counted=(*page.not_counted, *left)), state)
    call.show(with_steps(page, (step for one in outcomes for step in one.told)) if explain else page)
    if left:
        raise KeyboardInterrupt
    # What nobody asked about is told, and is an error where a flow is to survive it.
    asked = bool(any(stated.values()) or case or pairs)
    return int((asked and not all(one.is_harmless for one in outcomes)) or not state.is_well)


def _looked_at(described: Described, cases: Mapping[str, Case], workers: str, explain: bool) -> list[Outcome]:
    """The outcome of each case; of as many as there was time for, where it is stopped."""
    outcomes = list[Outcome]()
    try:
        with workers_for_cases(workers) as others:
            found = stress_apart(*others, described, cases, explain) if others else stress(described, cases)
            for outcome in found:
                outcomes.append(outcome.explained() if explain and not others else outcome)
    except KeyboardInterrupt:
        if not outcomes:
            raise
    return outcomes


def _money(amount: float | None) -> Fraction | None:
    return None if amount is None else exact(amount)


def _growth(call: Call, described: Described, found: Growth, figure: Path | None, lead: float | None) -> int:
    state = today(evaluate(described))
    lead_months = described.estate.targets.lead_days.order_months if lead is None else lead
    call.show(with_today(growth_page(described, found, lead_months), state))
    if figure:
        from fenrask.views.figures.growth import draw_growth

        call.write(figure, draw_growth(described, found, figure.suffix))
    return int(bool(found.crossings) or not state.is_well)


def _inputs(call: Call, described: Described, figure: Path | None, state: Today) -> int:
    estate, currency = described.estate.estate, described.catalogue.currency
    effects = sensitivity(described)
    call.show(with_today(sensitivity_page(estate, currency, effects), state))
    if figure:
        from fenrask.views.figures.growth import draw_sensitivity

        call.write(figure, draw_sensitivity(estate, currency, effects, figure.suffix))
    return int(not state.is_well)


def _slow(words: list[str]) -> dict[str, float]:
    found = {}
    for word in words:
        name, _, times = word.partition("=")
        try:
            found[name] = float(times)
        except ValueError:
            expected = "DESTINATION=TIMES, such as partner=3"
            raise UnusableInput([Problem(Place(path="--slow"), repr(word), expected)]) from None
        if not 1 <= found[name] < float("inf"):
            raise UnusableInput([Problem(Place(path="--slow"), repr(word), "at least 1 time as long")])
    return found
