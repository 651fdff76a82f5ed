"""What a provider's network does by itself: facts of the catalogue, none of which the program takes for granted."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from fenrask.estate.values import Count, Strict, unfit

__all__ = ["Behaviour", "InjectsWhile"]

InjectsWhile = Literal["always", "any-session", "all-sessions"]
"""While which of its sessions are up a hub injects what it is told to."""

EqualPrefixes = tuple[Literal["peering", "static", "learned", "injected"], ...]


class Behaviour(Strict):
    """What a provider's network does by itself; each default is what holds where a catalogue does not say."""

    peering_routes: Literal["automatic", "stated"] = Field(
        "automatic",
        description="whether a peering's routes are in the tables of both networks by themselves, or only where a "
        "table states them",
    )
    equal_prefixes: EqualPrefixes = Field(
        ("peering", "static", "learned", "injected"),
        description="of equal prefixes, the origin that wins: the first of this list; a network's own come before all",
    )
    wins_over_longer: tuple[Literal["own", "peering"], ...] = Field(
        (),
        description="what wins over longer prefixes of all other routes, too: a network's `own` prefixes, and those "
        "of a `peering`",
    )
    gateways_per_subnet: Annotated[Count, Field(ge=1)] | None = Field(
        None, description="translation gateways that the routes of one subnet may name; default: any number"
    )
    hub_passes_on: Literal["to-others", "to-all", "nothing"] = Field(
        "to-others",
        description="to which of its networks a hub passes on what it learned from lines and appliances: `to-others` "
        "leaves out the network of the appliance; only subnets with `learns` take it",
    )
    hub_injects_while: InjectsWhile = Field(
        "always",
        description="while which sessions of its lines and appliances are up a hub injects its prefixes, where it "
        "does not say so itself",
    )
    open_connections: Literal["break", "stay"] = Field(
        "break",
        description="what open connections do when a route of theirs changes to another exit: `break`, or `stay` on "
        "the path that they began on while its exits exist",
    )
    private_pools: Literal["automatic", "stated"] = Field(
        "automatic",
        description="whether its own network reaches a private pool outside its prefixes by itself, or only by a route",
    )

    gateways_publish: Annotated[bool, Field(strict=True)] = Field(
        False,
        description="whether its translation gateways may forward ports at their addresses to hosts (`publishes`)",
    )
    service_replies: Literal["routed", "direct"] = Field(
        "routed",
        description="how hosts reply to services of the provider that open connections to them, such as health "
        "checks: by their route tables (`routed`), or straight back whatever these say (`direct`)",
    )

    @model_validator(mode="after")
    def _each_once(self) -> Self:
        if len(self.equal_prefixes) != 4 or len({*self.equal_prefixes}) != 4:
            raise unfit("all four origins in equal_prefixes, each once", "Order peering, static, learned, injected.")
        return self
