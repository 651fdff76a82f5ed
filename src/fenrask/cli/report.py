"""`fenrask report`."""

from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import date
from functools import cached_property
from hashlib import sha256
from pathlib import Path
from typing import Annotated

import typer

from fenrask import __version__
from fenrask.checks import check
from fenrask.checks.today import today
from fenrask.cli.files import check_writable
from fenrask.cli.options import Call, shared_options, split_words
from fenrask.designs import Comparison, changes, compare
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import read_estate
from fenrask.estate.suggestions import unknown
from fenrask.evaluation import Evaluation, divisible, evaluate
from fenrask.optimise import choose
from fenrask.progress import gone_through
from fenrask.units import counted, percent
from fenrask.views.page import Page
from fenrask.views.report import ENDINGS, Figure, Report, Section
from fenrask.views.today import today_line

__all__ = ["command", "made_report"]

_NAMES = (
    "before", "choice", "findings", "paths", "load", "ports", "addresses", "bill", "designs", "stress", "months",
    "confidence", "assumptions",
)  # fmt: skip
"""The parts of a report, in the order of reading."""


@shared_options
def command(
    call: Call,
    words: Annotated[
        list[str], typer.Argument(metavar="[ESTATE] FILE", help="The estate file; and the report, .html or .md.")
    ],
    base: Annotated[
        Path | None, typer.Option(metavar="ESTATE", help="Also show before and after, from this other estate.")
    ] = None,
    leave_out: Annotated[
        list[str] | None,
        typer.Option(metavar="SECTION", help=f"Leave this out; may be repeated: {', '.join(_NAMES)}."),
    ] = None,
) -> int:
    is_piped = words[0] == "-" and len(words) > 1
    estate, rest = (Path("-"), words[1:]) if is_piped else split_words(words, 0)
    if len(rest) != 1:
        raise typer.BadParameter("give one file to write")
    file = Path(rest[0])
    check_writable(file, call.force, tuple(ENDINGS))
    if problems := unknown("--leave-out", leave_out or [], _NAMES, "a section of the report"):
        raise UnusableInput(problems)
    asked = replace(call, estate=estate or call.estate)
    evaluation = evaluate(asked.read())
    before = evaluate(read_estate(base)) if base else None
    contents = Contents(before, leave_out or (), draws=file.suffix != ".md")
    report = made_report(evaluation, asked.estate, contents)
    call.write(file, ENDINGS[file.suffix.lower()](report))
    call.show(Page("report", report.estate, report.answer, ()))
    return int(not today(evaluation).is_well)


@dataclass(frozen=True)
class Contents:
    """What a report is to have: the changes since an estate, all sections but some, figures; and what is made already.

    made: pages, by the command that shows them.
    """

    before: Evaluation | None = None
    without: Collection[str] = ()
    draws: bool = True
    comparison: Comparison | None = None
    made: Mapping[str, Page] = field(default_factory=dict)


@dataclass(frozen=True)
class _Plan:
    """What the sections share."""

    evaluation: Evaluation
    contents: Contents
    pages: dict[str, Page] = field(default_factory=dict)
    """Those of the sections before, by name."""

    @property
    def draws(self) -> bool:
        return self.contents.draws

    @cached_property
    def comparison(self) -> Comparison:
        return self.contents.comparison or compare(self.evaluation.described)


def made_report(evaluation: Evaluation, file: Path, contents: Contents) -> Report:
    """The whole plan of an estate in a file; sections are made by the very pages of the commands."""
    plan = _Plan(evaluation, contents)
    wanted = [(name, of) for name, of in zip(_NAMES, _MADE, strict=True) if name not in contents.without]
    sections = list[Section]()
    for _, of in gone_through(wanted, "section"):
        for section in of(plan):
            sections.append(section)
            plan.pages[section.name] = section.page
    state = today(evaluation)
    known = today_line(state, ("covered",)) or "Nothing is wrong today."
    errors = [f"{rule} at {place}" for rule, place in state.errors] if "findings" in plan.pages else []
    if len(errors) > _ERRORS + 1:
        errors[_ERRORS:] = [f"and {len(errors) - _ERRORS} more"]
    answer = [known, *_answers(plan.pages)]
    described = evaluation.described
    sources = {
        "estate": f"{file.name} (SHA-256 {sha256(file.read_bytes()).hexdigest()})" if file.is_file() else "piped in",
        "catalogue": f"{described.catalogue.catalogue}, read on {described.catalogue.read_on}",
        "by": f"Fenrask {__version__}",
        "on": date.today().isoformat(),
    }
    return Report(described.estate.estate, tuple(answer), tuple(sections), tuple(errors), sources)


_ERRORS = 20
"""Errors that are named at the top."""


_OTHER_ANSWERS = {"bill": "As it is", "ports": "Ports", "addresses": "Addresses"}
"""Where no mix is looked for: the sections whose first sentence is the answer, and what it answers."""


def _answers(pages: Mapping[str, Page]) -> Iterator[str]:
    """What changed, what to do, and what that saves; where that is not asked for, what each section says first."""
    if "before" in pages:
        yield f"Changed: {pages['before'].summary[0]}"
    choice = pages.get("choice")
    if choice is None:
        yield from (f"{told}: {pages[name].summary[0]}" for name, told in _OTHER_ANSWERS.items() if name in pages)
        return
    if "month_amount" not in choice.facts:
        yield f"To do: no mix meets every need ({choice.summary[0].removeprefix('none: ')})."
        return
    facts = choice.facts
    changes = [
        counted(facts[key], one, many)
        for key, one, many in (
            ("exits_to_change", "exit", "exits"),
            ("routes_to_change", "route", "routes"),
            ("entries_to_change", "allow-list entry", "allow-list entries"),
        )
        if facts[key]
    ]
    proof = "proven optimal" if facts["proven"] else f"within {percent(facts['gap'])} of the least possible"
    meets = "every need is met then" if facts["meets_all"] else "not every need is met then"
    yield f"To do: change {', '.join(changes) or 'nothing'} (Choice); {meets}, {proof}."
    if "bill" in pages:
        now, then, money = float(pages["bill"].facts["month_amount"]), float(facts["month_amount"]), facts["currency"]
        saves = f"It saves {now - then:,.2f}" if now >= then else f"It costs {then - now:,.2f} more"
        yield f"{saves}: {then:,.2f} {money}/month instead of {now:,.2f}."


def _before(plan: _Plan) -> Iterator[Section]:
    before = plan.contents.before
    if before is None:
        return
    from fenrask.views.pages.beside import beside_page
    from fenrask.views.pages.compare import changes_page

    now = plan.evaluation
    total = now.bill.total - before.bill.total
    flows = changes_page(now.described.estate.estate, now.bill.currency, changes(before, now), total)
    page = beside_page(before, now)
    about = "What changes from the other estate, in figures and flow by flow."
    yield Section("before", "Before and now", about, replace(page, tables=(*page.tables, *flows.tables)))


def _paths(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.path import flows_page

    evaluation = plan.evaluation
    page = flows_page(evaluation.paths, evaluation.broken, evaluation.down_minutes)
    drawn: tuple[Figure, ...] = ()
    if plan.draws:
        from fenrask.views.figures.paths import draw_paths

        text = (
            "The estate: subnets, the exits that their traffic passes, and destinations. The table below says the same."
        )
        drawn = (Figure("paths", draw_paths(evaluation.paths, evaluation.broken, ".svg"), text),)
    about = "Each flow's exits from subnet to destination, the source address seen there, and whether it arrives."
    yield Section("paths", "Paths", about, page, drawn, "fenrask path")


def _findings(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.check import findings_page

    evaluation = plan.evaluation
    page = plan.contents.made.get("fenrask check") or findings_page(
        evaluation.described.estate.estate, check(evaluation), evaluation.described.data
    )
    about = "What is wrong or doubtful, the worst first, each with its place and a remedy that was tried."
    yield Section("findings", "Findings", about, page, (), "fenrask check")


def _load(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.demand import demand_page

    drawn: tuple[Figure, ...] = ()
    if plan.draws:
        from fenrask.views.figures.heat import draw_heat

        text = "Concurrent connections of each exit by hour, coloured by the share of its ports."
        drawn = (Figure("load", draw_heat(plan.evaluation.capacity, ".svg"), text),)
    about = "Concurrent connections through the day. A connection keeps its port until its mapping timeout has passed."
    yield Section("load", "Load", about, demand_page(plan.evaluation.demand), drawn, "fenrask demand")


def _ports(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.capacity import capacity_page

    sized, drawn = plan.evaluation.capacity, tuple[Figure, ...]()
    if plan.draws:
        from fenrask.views.figures.blocking import draw_blocking
        from fenrask.views.figures.ports import draw_ports

        drawn = (
            Figure(
                "ports",
                draw_ports(sized, ".svg"),
                "Translated ports wanted through the day, and the ports there are.",
            ),
            Figure("blocking", draw_blocking(sized, ".svg"), "Connections without a port by number of addresses."),
        )
    about = "Translated ports and every other limit of each exit against the peak, and the addresses that it needs."
    page = capacity_page(sized, divisible(plan.evaluation))
    yield Section("ports", "Ports and limits", about, page, drawn, "fenrask capacity")


def _addresses(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.addresses import addresses_page

    about = "Public addresses to pay for, and what each destination must put on its allow-list."
    yield Section(
        "addresses", "Addresses and allow-lists", about, addresses_page(plan.evaluation), (), "fenrask addresses"
    )


def _bill(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.charges import charges_page

    yield Section(
        "bill", "Bill", "What a month costs, and for what.", charges_page(plan.evaluation), (), "fenrask charges"
    )


def _designs(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.compare import compare_page
    from fenrask.what_if import zone_losses

    found, drawn = plan.comparison, tuple[Figure, ...]()
    if plan.draws:
        from fenrask.views.figures.designs import draw_designs

        drawn = (
            Figure(
                "designs",
                draw_designs(found, ".svg", _chosen_month(plan.pages.get("choice"))),
                "What each standard design costs a month.",
            ),
        )
    page = plan.contents.made.get("fenrask compare")
    if page is None:
        page = compare_page(found, {one.design.name: zone_losses(one.evaluation) for one in found.candidates})
    about = "The same estate in standard designs, each evaluated whole; those that fail a need say which."
    yield Section("designs", "Designs", about, page, drawn, "fenrask compare")


def _chosen_month(choice: Page | None) -> float | None:
    """What the mix costs that meets every need, where one was looked for and found."""
    amount = choice.facts.get("month_amount") if choice is not None else None
    return None if amount is None else float(amount)


def _choice(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.choose import choose_page

    page = plan.contents.made.get("fenrask choose")
    if page is None:
        described = plan.evaluation.described
        try:
            page = choose_page(choose(described, compared=lambda: plan.comparison), plan.comparison)
        except NoAnswer as error:
            # The rest of the plan says what is wrong, and stays worth reading.
            page = Page("choose", described.estate.estate, (f"none: {error.cause}", error.remedy), ())
    about = "The cheapest mix of exits, flow by flow, that meets every need; what to change; what comes next."
    yield Section("choice", "Choice", about, page, (), "fenrask choose")


def _stress(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.stress import stress_page
    from fenrask.what_if import all_cases, stress

    described = plan.evaluation.described
    page = plan.contents.made.get("fenrask stress")
    if page is None:
        outcomes = list(stress(described, all_cases(described), plan.comparison))
        page = stress_page(described.estate.estate, described.catalogue.currency, outcomes)
    about = "What the loss of a zone, an exit or a node cuts off or overloads, and what helps."
    yield Section("stress", "Failures", about, page, (), "fenrask stress")


def _months(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.schedule import schedule_page
    from fenrask.what_if import grows
    from fenrask.what_if.schedule import schedule

    described = plan.evaluation.described
    if not grows(described):
        return
    found, drawn = schedule(described), tuple[Figure, ...]()
    if plan.draws:
        from fenrask.views.figures.schedule import draw_schedule

        text = "Translated ports wanted and owned, and the bill, month by month, with all that is ordered."
        drawn = (Figure("months", draw_schedule(described, found, ".svg"), text),)
    about = "What to buy when, as load and hosts grow: the latest day of each order, and what no address mends."
    yield Section("months", "The months ahead", about, schedule_page(described, found), drawn, "fenrask schedule")


def _confidence(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.confidence import bill_confidence_page, capacity_confidence_page
    from fenrask.what_if import confident, ranges

    described = plan.evaluation.described
    if not ranges(described):
        return
    found = confident(plan.evaluation, _LEVEL)
    page, bill = (
        capacity_confidence_page(described.estate.estate, found),
        bill_confidence_page(described.estate.estate, described.catalogue.currency, found),
    )
    whole = replace(
        page,
        summary=(*page.summary, *bill.summary),
        tables=(*page.tables, bill.tables[0]),
        not_counted=bill.not_counted,
    )
    about = "Where loads are ranges: how sure the addresses suffice, the bill as an interval, what to measure first."
    yield Section("confidence", "Confidence", about, whole, (), f"fenrask capacity --confidence {_LEVEL}")


_LEVEL = 0.95


def _assumptions(plan: _Plan) -> Iterator[Section]:
    from fenrask.views.pages.assumptions import assumptions_page

    page = assumptions_page(plan.evaluation.described, date.today())
    about = "What the figures rest on: prices with the day they were read, targets, and where each load comes from."
    yield Section("assumptions", "Assumptions", about, page)


_MADE: tuple[Callable[[_Plan], Iterator[Section]], ...] = (
    _before, _choice, _findings, _paths, _load, _ports, _addresses, _bill, _designs, _stress, _months, _confidence,
    _assumptions,
)  # fmt: skip
