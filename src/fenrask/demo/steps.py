"""The demonstration: the commands in the order of work, each with what to look at."""

from collections.abc import Callable
from dataclasses import dataclass

from fenrask.demo.samples import VELLMOUTH
from fenrask.demo.stand_ins import dns_server
from fenrask.designs import Judged, compare, single_faults, stress
from fenrask.designs.choice import choose
from fenrask.designs.losses import sources_shown
from fenrask.errors import Problem
from fenrask.records import confirm, drifts, read_observations
from fenrask.records.names import look_up
from fenrask.routing import trace
from fenrask.routing.rules import check
from fenrask.views.page import Page
from fenrask.views.pages.addresses import addresses_page
from fenrask.views.pages.capacity import capacity_page
from fenrask.views.pages.charges import charges_page
from fenrask.views.pages.check import findings_page
from fenrask.views.pages.choose import choose_page
from fenrask.views.pages.compare import compare_page
from fenrask.views.pages.confirm import confirm_page
from fenrask.views.pages.demand import demand_page
from fenrask.views.pages.path import flows_page, walk_page
from fenrask.views.pages.resolve import resolve_page
from fenrask.views.pages.source import source_page
from fenrask.views.pages.stress import stress_page

__all__ = ["STEPS", "Step"]


@dataclass(frozen=True)
class Step:
    """One step: the command as a user would type it, what to look at, and its page."""

    command: str
    look_at: str
    page: Callable[[Judged], Page]


def _check(judged: Judged) -> Page:
    return findings_page(judged.described.estate.estate, check(judged.described))


def _way(judged: Judged) -> Page:
    return walk_page(judged.described, "package-mirrors", trace(judged.described, "telemetry-a", "package-mirrors"))


def _addresses(judged: Judged) -> Page:
    return addresses_page(judged.described.estate.estate, judged.plan)


def _names(judged: Judged) -> Page:
    """The names as the sample's zone file answers them, by a server that stands in on the loopback."""
    zone = VELLMOUTH.contents()["names.zone"].decode()
    with dns_server(zone) as port:
        found = drifts(judged.described, lambda name: look_up(name, "127.0.0.1", port))
    return resolve_page(judged.described.estate.estate, found, "127.0.0.1#5399")


def _sources(judged: Judged) -> Page:
    cases = list(sources_shown(judged.described, "ticketing-a", "record-store"))
    return source_page(judged.described.estate.estate, "ticketing-a", "record-store", cases)


def _confirmed(judged: Judged) -> Page:
    problems: list[Problem] = []
    seen = read_observations(VELLMOUTH.contents()["observed.csv"].decode(), "observed.csv", "", problems)
    return confirm_page(judged.described.estate.estate, confirm(judged.described, seen))


def _stressed(judged: Judged) -> Page:
    cases = single_faults(judged.described)
    outcomes = list(stress(judged.described, cases))
    return stress_page(judged.described.estate.estate, judged.bill.currency, outcomes)


STEPS: tuple[Step, ...] = (
    Step(
        "fenrask check",
        "What is wrong before anything is built: each finding with its line and a remedy.",
        _check,
    ),
    Step(
        "fenrask path",
        "By which exits each flow leaves, what the far side sees, and which needs that breaks.",
        lambda judged: flows_page(judged.ways, judged.broken),
    ),
    Step(
        "fenrask path telemetry-a package-mirrors",
        "Why half of the updates never arrive: a leftover route hides the live default behind it.",
        _way,
    ),
    Step(
        "fenrask demand",
        "Connections held, and when most: a port stays taken long after a short connection.",
        lambda judged: demand_page(judged.demand),
    ),
    Step(
        "fenrask capacity",
        "gate-a has two addresses and needs four: payments are refused on sailing-day evenings.",
        lambda judged: capacity_page(judged.capacity),
    ),
    Step(
        "fenrask addresses",
        "What is bought, what each partner has to allow-list, and what two more addresses change for them.",
        _addresses,
    ),
    Step(
        "fenrask charges",
        "Most goes to gate-fleet, for pictures and readings that a routed endpoint takes for nothing.",
        charges_page,
    ),
    Step(
        "fenrask compare",
        "Whole designs side by side: the cheapest fails a need, and the next costs hardly more.",
        lambda judged: compare_page(compare(judged.described, losses=True)),
    ),
    Step(
        "fenrask choose",
        "The cheapest mix of exits, flow by flow, proven; and why each other way lost.",
        lambda judged: choose_page(choose(judged.described), compare(judged.described)),
    ),
    Step(
        "fenrask stress",
        "What fails when something does: without zone a the gateway that is left refuses payments.",
        _stressed,
    ),
    Step(
        "fenrask resolve --server 127.0.0.1#5399",
        "The tide feed moved: a prefix on record that its name no longer stays in (asked of a stand-in server).",
        _names,
    ),
    Step(
        "fenrask source ticketing-a record-store",
        "Without the endpoint the records are still reached, but over the internet: another source is seen.",
        _sources,
    ),
    Step(
        "fenrask confirm observed.csv",
        "What the far sides saw against the plan: each difference with its likely cause and the check to run next.",
        _confirmed,
    ),
)
