"""How the addresses that an exit needs are computed."""

from collections.abc import Iterator

from fenrask.capacity.sizing import Capacity, ExitCapacity
from fenrask.derivation import Step
from fenrask.units import clock_text, counted, figure, percent

__all__ = ["explain_capacity"]

_RFC = "RFC 4787 (mapping), RFC 3022 (translation)"
_FORMULAS = {
    "hashed": "mean of Erlang B over Binomial(hosts - 1, 1/cells) others in a cell",
    "limited": "birth-death chain whose arrivals thin as it fills",
    "batches": "a negative binomial cut off at the ports (Kaufman & Rege 1996), beside Hayward",
    "bursty": "Hayward: B(ports / z, load / z), Fredericks 1980",
    "varied": "mean over lognormal levels of the load (Cox 1955)",
    "capped": "hosts as truncated Poisson laws, cut off at the ports (Kelly 1979), by convolution (Buzen 1973)",
    "retried": "load raised until a' = a + share x a' x B(a')",
    "plain": "Erlang B (Erlang 1917) at the mean concurrent connections of that moment (Jagerman 1975)",
}


def explain_capacity(capacity: Capacity) -> Iterator[Step]:
    """For each exit, the fullest first: ports of the pool that binds, ports wanted, blocking, addresses."""
    if capacity.of_busy_day:
        days = capacity.demand.paths.described.estate.targets.days
        working = f"of the day that {percent(days)} of days do not exceed; exp(s z - s^2/2), s^2 = log(1 + day_cv^2)"
        yield Step("targets", "days", percent(days), working)
    for exit_ in sorted(
        capacity.exits, key=lambda exit_capacity: (-exit_capacity.blocking, exit_capacity.port_limit.headroom)
    ):
        yield from _exit(exit_)


def _exit(exit_capacity: ExitCapacity) -> Iterator[Step]:
    ports, how = exit_capacity.ports, exit_capacity.how
    if ports is None:
        yield Step(
            exit_capacity.name, "addresses needed", "1", "no connection, but a gateway that exists needs one address"
        )
        return
    when = "all day" if ports.level else f"at {clock_text(ports.time_s)}"
    yield Step(
        exit_capacity.name, "assignment", how.assignment, f"{ports.pool}; when it is full, {ports.suffers} fails", _RFC
    )
    yield Step(
        exit_capacity.name,
        "ports of the pool",
        f"{ports.capacity:,}",
        exit_capacity.how.size_text(exit_capacity.addresses),
        _RFC,
    )
    yield Step(
        exit_capacity.name,
        "ports wanted",
        f"{figure(ports.concurrent)} {when}",
        f"{ports.binding}, of {counted(len(exit_capacity.streams), 'pool')} the one with most blocking "
        "(see demand --explain)",
    )
    working = f"B({ports.capacity:,} ports, {figure(ports.concurrent)} wanted) = {ports.blocking:.4g}"
    yield Step(
        exit_capacity.name,
        "no free port",
        percent(ports.blocking),
        f"{working}{'; ' + ports.detail if ports.detail else ''}",
        "; ".join(_formulas(exit_capacity)),
    )
    if exit_capacity.needed is None:
        yield Step(
            exit_capacity.name,
            "addresses needed",
            "none suffices",
            f"even with many the blocking exceeds {exit_capacity.target:g}",
        )
        return
    before = (
        f"{exit_capacity.needed - 1}: {exit_capacity.blocking_with(exit_capacity.needed - 1):.3g}, "
        if exit_capacity.needed > 1
        else ""
    )
    grown = " with the growth margin" if exit_capacity.needed != exit_capacity.needed_now else ""
    needed, blocking = exit_capacity.needed, exit_capacity.blocking_with(exit_capacity.needed)
    working = f"blocking with {before}{needed}: {blocking:.3g}; target {exit_capacity.target:g}{grown}"
    yield Step(exit_capacity.name, "addresses needed", str(exit_capacity.needed), working)


def _formulas(exit_capacity: ExitCapacity) -> Iterator[str]:
    stream = next(
        (each for each in exit_capacity.streams if exit_capacity.ports and each.label == exit_capacity.ports.binding),
        None,
    )
    told = False
    if stream is not None:
        facts = {
            "hashed": exit_capacity.ports is not None and exit_capacity.ports.hashed,
            "limited": exit_capacity.how.search_tries is not None,
            "batches": stream.overlap > 0,
            "bursty": stream.is_bursty and not stream.overlap,
            "varied": stream.level_cv > 0 or stream.fast_cv > 0,
            "capped": stream.is_capped and not stream.is_bursty and exit_capacity.how.search_tries is None,
            "retried": stream.retry_share > 0,
        }
        for name, holds in facts.items():
            if holds:
                told = True
                yield _FORMULAS[name]
    if not told:
        yield _FORMULAS["plain"]
