"""The demonstration: the commands in the order of work, each with what to look at."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from fenrask.checks import check
from fenrask.demo.inventory import INVENTORY
from fenrask.demo.samples import VELLMOUTH
from fenrask.demo.stand_ins import dns_server
from fenrask.designs import Comparison, compare
from fenrask.errors import Problem
from fenrask.evaluation import Evaluation, divisible, evaluate
from fenrask.optimise import choose
from fenrask.records.batch import Unread
from fenrask.records.bills import confirm_bill, read_bill
from fenrask.records.confirming import confirm
from fenrask.records.drift import drifts
from fenrask.records.existing import LEAST_SHARE, drafted, read_files
from fenrask.records.matching import Pairs
from fenrask.records.measuring import Loads, measured, stated_rates
from fenrask.records.names import look_up
from fenrask.records.observations import read_observations
from fenrask.records.readers import Quiet, read_records
from fenrask.records.tallying import summarised
from fenrask.rehearsal import missing, rehearse
from fenrask.routing import trace_from
from fenrask.teletraffic.simulation import Stop, replicated
from fenrask.views.drafted import draft_files
from fenrask.views.handover import Handover
from fenrask.views.page import Page
from fenrask.views.pages.addresses import addresses_page
from fenrask.views.pages.capacity import capacity_page
from fenrask.views.pages.charges import charges_page
from fenrask.views.pages.check import findings_page
from fenrask.views.pages.choose import choose_page
from fenrask.views.pages.compare import compare_page
from fenrask.views.pages.confirm import confirm_page
from fenrask.views.pages.demand import demand_page
from fenrask.views.pages.handover import handover_page
from fenrask.views.pages.measure import measure_page
from fenrask.views.pages.path import flows_page, trace_page
from fenrask.views.pages.rehearse import rehearse_page
from fenrask.views.pages.resolve import resolve_page
from fenrask.views.pages.schedule import schedule_page
from fenrask.views.pages.simulate import simulate_page
from fenrask.views.pages.source import partner_page
from fenrask.views.pages.start import draft_page
from fenrask.views.pages.stress import stress_page
from fenrask.what_if import (
    Asked,
    Outage,
    all_cases,
    as_sized,
    case_patch,
    simulated,
    stress,
    zone_losses,
)
from fenrask.what_if.schedule import schedule
from fenrask.what_if.sources import shown_to

__all__ = ["RECORDS", "STEPS", "Run", "Step"]

RECORDS = "records.csv.gz"
"""The day of records that the demo writes."""


@dataclass(frozen=True)
class Run:
    """What several steps share: the sample judged, and its designs compared."""

    evaluation: Evaluation
    folder: Path
    """Where the sample was written."""

    @cached_property
    def comparison(self) -> Comparison:
        return compare(self.evaluation.described)


@dataclass(frozen=True)
class Step:
    """One step: the command as a user would type it, what to look at, and its page."""

    command: str
    look_at: str
    page: Callable[[Run], Page]
    brief: bool = True
    """Whether it is run without `--full` too: a second simulation takes seconds."""


def _check(run: Run) -> Page:
    return findings_page(run.evaluation.described.estate.estate, check(run.evaluation), run.evaluation.described.data)


def _path(run: Run) -> Page:
    return trace_page(
        run.evaluation.described,
        "package-mirrors",
        trace_from(run.evaluation.described, "telemetry-a", "package-mirrors"),
    )


def _measured(run: Run) -> Page:
    """A day's records, read from where the sample was written."""
    pairs, unread = Pairs(run.evaluation.described.estate), Unread({})
    file = str(run.folder / RECORDS)
    kind, guessed, batches = read_records(file, unread, quiet=Quiet.of(run.evaluation.described))
    summary = summarised(batches, pairs)
    loads = Loads(summary, pairs, measured(summary, pairs), stated_rates(run.evaluation.described))
    estate = run.evaluation.described.estate.estate
    return measure_page(estate, loads, unread, {RECORDS: kind}, {RECORDS: guessed})


def _addresses(run: Run) -> Page:
    return addresses_page(run.evaluation)


def _names(run: Run) -> Page:
    """The names as the sample's zone file answers them, by a server that stands in on the loopback."""
    zone = VELLMOUTH.contents()["names.zone"].decode()
    with dns_server(zone) as port:
        found = drifts(run.evaluation.described, lambda name: look_up(name, "127.0.0.1", port))
    return resolve_page(run.evaluation.described.estate.estate, found, "127.0.0.1#5399")


def _sources(run: Run) -> Page:
    described = run.evaluation.described
    return partner_page(described.estate.estate, "record-store", shown_to(described, "record-store"))


def _confirmed(run: Run) -> Page:
    problems: list[Problem] = []
    seen = read_observations(VELLMOUTH.contents()["observed.csv"].decode(), "observed.csv", "", problems)
    described, currency = run.evaluation.described, run.evaluation.bill.currency
    billed = read_bill(VELLMOUTH.contents()["bill.csv"], "bill.csv", currency, problems)
    compared, others = confirm_bill(run.evaluation, billed, {})
    return confirm_page(described.estate.estate, confirm(described, seen), compared, (), [others] if others else [])


def _stressed(run: Run) -> Page:
    cases = all_cases(run.evaluation.described)
    outcomes = list(stress(run.evaluation.described, cases, run.comparison))
    return stress_page(run.evaluation.described.estate.estate, run.evaluation.bill.currency, outcomes)


def _simulated(run: Run) -> Page:
    return _replayed(run.evaluation, Asked(exits=("gate-a",), around_hours=1))


def _replayed(evaluation: Evaluation, asked: Asked, case: str = "") -> Page:
    estate = evaluation.described.estate
    target = estate.targets.blocking
    with ThreadPoolExecutor() as executor:
        stop = Stop(negligible=target / 10, most_attempts=3e7)
        results = [(one, replicated(one.setting, executor, stop)) for one in simulated(evaluation.capacity, asked)]
    return simulate_page(estate.estate, target, results, case)


def _handed_over(run: Run) -> Page:
    plan = Handover(run.evaluation, comparison=run.comparison)
    return handover_page(run.evaluation.described.estate.estate, plan.files, plan.tasks, plan.hosts)


def _rehearsed(run: Run) -> Page:
    """The sample in this machine's kernel; where it cannot be asked, why."""
    described = run.evaluation.described
    why = missing()
    return rehearse_page(described.estate.estate, [] if why else [(0, "", rehearse(described))], why)


def _struck(run: Run) -> Page:
    cured = as_sized(evaluate(run.evaluation.described.patched({"exits": {"gate-a": {"addresses": 4}}}, "--set")))
    lost = case_patch(cured.described, all_cases(cured.described)["zone b lost"])
    outage = Outage(evaluate(cured.described.struck(lost, "zone b lost")).capacity, 20 * 60.0)
    return _replayed(cured, Asked(exits=("gate-a",), around_hours=1, outage=outage), "zone b lost")


def _drafted(run: Run) -> Page:
    """An estate from what the sample's machines know of it."""
    files = [
        *sorted((run.folder / INVENTORY).iterdir()),
        *(run.folder / name for name in (RECORDS, "names.zone", "bill.csv")),
    ]
    found = read_files([*map(str, files)], {})
    draft = drafted(found, "mine", "2026-12-01", LEAST_SHARE)
    draft_files(found, draft, "loads.json")
    return draft_page("mine", found, draft)


STEPS: tuple[Step, ...] = (
    Step(
        "fenrask check",
        "What is wrong before anything is built: each finding with its line and a remedy.",
        _check,
    ),
    Step(
        "fenrask path",
        "The exits each flow passes, the source address seen, and the needs that it breaks.",
        lambda run: flows_page(run.evaluation.paths, run.evaluation.broken, run.evaluation.down_minutes),
    ),
    Step(
        "fenrask path telemetry-a package-mirrors",
        "Why half of the updates never arrive: a leftover route hides the live default behind it.",
        _path,
    ),
    Step(
        f"fenrask measure {RECORDS}",
        "A day's records of two flows: the crew's rosters ask 2.6 times as often as the estate says.",
        _measured,
    ),
    Step(
        "fenrask demand",
        "Concurrent connections, and when they peak: a port stays taken long after a short connection.",
        lambda run: demand_page(run.evaluation.demand),
    ),
    Step(
        "fenrask capacity",
        "gate-a has two addresses and needs four: payments fail on sailing-day evenings.",
        lambda run: capacity_page(run.evaluation.capacity, divisible(run.evaluation)),
    ),
    Step(
        "fenrask addresses",
        "What is bought, what each partner has to allow-list, and what two more addresses change for them.",
        _addresses,
    ),
    Step(
        "fenrask charges",
        "Most goes to gate-fleet, for pictures and readings that a routed endpoint takes for nothing.",
        lambda run: charges_page(run.evaluation),
    ),
    Step(
        "fenrask compare",
        "Whole designs side by side: the cheapest fails a need, and the next costs hardly more.",
        lambda run: compare_page(
            run.comparison, {one.design.name: zone_losses(one.evaluation) for one in run.comparison.candidates}
        ),
    ),
    Step(
        "fenrask choose",
        "The cheapest mix of exits, flow by flow, proven; and why each other option lost.",
        lambda run: choose_page(choose(run.evaluation.described, compared=lambda: run.comparison), run.comparison),
    ),
    Step(
        "fenrask stress",
        "What a failure cuts off or overloads: without zone a the gateway that is left runs out of ports.",
        _stressed,
    ),
    Step(
        "fenrask schedule",
        "What to buy when as payments grow: a block for each gate, since the acquirer's list has room for two entries.",
        lambda run: schedule_page(run.evaluation.described, schedule(run.evaluation.described)),
    ),
    Step(
        "fenrask simulate --exit gate-a --around 1",
        "The same evening connection by connection: the worst is as the formula says, and comes with the load at once.",
        _simulated,
    ),
    Step(
        'fenrask simulate --exit gate-a --around 1 --set exits.gate-a.addresses=4 --case "zone b lost" --outage 20',
        "Cured by two addresses more; the loss of a zone for twenty minutes exhausts its ports until the zone is back.",
        _struck,
        brief=False,
    ),
    Step(
        "fenrask handover",
        "What others need: build steps with checks, allow-lists, routes, NAT, alerts, a workbook (--save writes it).",
        _handed_over,
    ),
    Step(
        "fenrask rehearse",
        "Real packets through the sample, built in network namespaces of this machine (root, Linux, `ip`, `nft`).",
        _rehearsed,
    ),
    Step(
        "fenrask resolve --server 127.0.0.1#5399",
        "The tide feed moved: a prefix on record that its name no longer stays in (asked of a stand-in server).",
        _names,
    ),
    Step(
        "fenrask source record-store",
        "Without the endpoint the records are still reached, but over the internet: another source is seen.",
        _sources,
    ),
    Step(
        "fenrask confirm observed.csv --bill bill.csv",
        "What remote ends saw against the plan: each difference with its likely cause and the check to run next.",
        _confirmed,
    ),
    Step(
        f"fenrask start mine --from {INVENTORY} {RECORDS} names.zone bill.csv",
        "Your own in minutes: an estate drafted from inventories, routes, NAT, records, names and a bill.",
        _drafted,
    ),
)
