"""`fenrask capacity`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.capacity import explain_capacity
from fenrask.checks.today import today
from fenrask.cli.options import Call, Confidence, Explain, filtered_command
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate.suggestions import some
from fenrask.evaluation import divisible, evaluate
from fenrask.views.pages.capacity import capacity_page
from fenrask.views.pages.explained import with_steps
from fenrask.views.today import with_today

__all__ = ["command"]


@filtered_command
def command(
    call: Call,
    explain: Explain = False,
    timeout: Annotated[
        str | None,
        typer.Option(
            metavar="ENDING=SECONDS[..SECONDS]",
            help="Show instead what this mapping timeout (such as idle=180..5400) costs in ports and addresses.",
        ),
    ] = None,
    confidence: Confidence = None,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw ports wanted over the day (.png, .svg or .pdf)."),
    ] = None,
) -> int:
    if timeout is not None:
        if figure:
            raise UnusableInput([Problem(Place(path="--figure"), "--timeout", "one of the two")])
        return _timeouts(call, timeout)
    if confidence is not None:
        if figure:
            raise UnusableInput([Problem(Place(path="--figure"), "--confidence", "one of the two")])
        return _confidence(call, confidence)
    evaluation = evaluate(call.read())
    sized = evaluation.capacity
    state = today(evaluation)
    page = with_today(capacity_page(sized, divisible(evaluation)), state, ("short",))
    call.show(with_steps(page, explain_capacity(sized)) if explain else page, sized.demand.paths)
    if figure:
        from fenrask.views.figures.ports import draw_ports

        call.write(figure, draw_ports(sized, figure.suffix))
    return int(not state.is_well)


def _confidence(call: Call, level: float) -> int:
    from fenrask.views.pages.confidence import capacity_confidence_page
    from fenrask.what_if import confident

    evaluation = evaluate(call.read())
    found = confident(evaluation, level)
    state = today(evaluation)
    call.show(with_today(capacity_confidence_page(evaluation.described.estate.estate, found), state), evaluation.paths)
    shares = [*(one.now for one in found.exits), *(one.kept for one in found.limits)]
    return int(min(shares, default=1.0) < level or not state.is_well)


_STEPS = 6


def _timeouts(call: Call, stated: str) -> int:
    from fenrask.views.pages.timeouts import timeouts_page
    from fenrask.what_if import adjustable, sweep

    ending, _, text = stated.partition("=")
    seconds = _range(stated, text)
    described = call.read()
    exits = [one for one in adjustable(described, ending) if one in (call.chosen.get("exit") or [one])]
    if not exits:
        known = sorted(
            {key for offer in described.catalogue.offers.values() for key in offer.mapping_timeout_s.adjustable}
        )
        remedy = f"What gateways can set: {some(known)}." if known else "The catalogue lets no gateway set a timeout."
        raise UnusableInput([Problem(Place(path="--timeout"), repr(ending), "a timeout that an exit can set", remedy)])
    found = sweep(described, ending, seconds, exits)
    state = today(evaluate(described))
    call.show(with_today(timeouts_page(described.estate.estate, described.catalogue.currency, ending, found), state))
    return int(not state.is_well)


def _range(stated: str, text: str) -> list[float]:
    """The seconds of `180`, or some between the two of `180..5400`, each as many times the one before."""
    low, _, high = text.partition("..")
    try:
        first, last = float(low), float(high or low)
        if not 0 < first <= last < float("inf"):
            raise ValueError
    except ValueError:
        expected = "ENDING=SECONDS or ENDING=FROM..TO, such as idle=180..5400"
        raise UnusableInput([Problem(Place(path="--timeout"), repr(stated), expected)]) from None
    if first == last:
        return [first]
    return [round(first * (last / first) ** (step / (_STEPS - 1)), 3) for step in range(_STEPS)]
