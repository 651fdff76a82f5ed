"""A router that joins many networks and private lines."""

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Discriminator, Field, Tag

from fenrask.estate.behaviour import InjectsWhile
from fenrask.estate.exits.contract import ExitModel, Onward
from fenrask.estate.values import PrefixText, Strict
from fenrask.prefixes import Prefix

__all__ = ["Hub"]


class Injected(Strict):
    """What a hub injects, and while which of its sessions are up."""

    prefixes: tuple[PrefixText, ...] = Field(description="prefixes that it puts into the tables of its networks")
    while_: InjectsWhile | None = Field(
        None,
        alias="while",
        description="while which sessions of its lines and appliances are up; default: the catalogue's "
        "`hub_injects_while`",
    )


def _injects_shape(value: Any) -> str:
    return "prefixes" if isinstance(value, list | tuple) else "with-while"


Injects = Annotated[
    Annotated[tuple[PrefixText, ...], Tag("prefixes")] | Annotated[Injected, Tag("with-while")],
    Discriminator(_injects_shape),
]


class Hub(ExitModel):
    purpose: ClassVar[str] = "joins many networks and lines, each with each (transitive); has a table of its own"
    needs_offer: ClassVar[bool] = False
    joins_many: ClassVar[bool] = True

    in_force_first: ClassVar[tuple[str, ...]] = ("routes_from", "knows")
    added_and_taken: ClassVar[tuple[str, ...]] = ("networks",)
    steering: ClassVar[tuple[str, ...]] = ("injects",)

    kind: Literal["hub"]
    networks: Annotated[tuple[str, ...], Field(min_length=1)] = Field(description="the networks attached to it")
    routes: str | None = Field(None, description="its table, beside the prefixes of what is attached")
    routes_from: dict[str, str] = Field(
        {}, description="tables of their own for what comes from a network, by the network's name"
    )
    knows: dict[str, tuple[PrefixText, ...]] = Field(
        {}, description="the only prefixes of a network that it has routes to, by the network's name; default: all"
    )
    injects: Injects = Field(
        (),
        description="prefixes that it puts into the tables of the attached networks; or these as `prefixes`, and "
        "`while` which sessions of its lines and appliances are up",
    )
    offer: str | None = Field(None, description="the catalogue's offer, where it costs money")

    @property
    def onward(self) -> Onward:
        return Onward.HUB

    def table_for(self, network: str | None) -> str | None:
        return self.routes_from.get(network or "", self.routes)

    @property
    def tables(self) -> frozenset[str]:
        return frozenset(one for one in (self.routes, *self.routes_from.values()) if one)

    @property
    def joins(self) -> tuple[str, ...]:
        return self.networks

    def known_of(self, network: str) -> tuple[Prefix, ...] | None:
        return self.knows.get(network)

    @property
    def injected(self) -> tuple[Prefix, ...]:
        return self.injects.prefixes if isinstance(self.injects, Injected) else self.injects

    @property
    def injects_while(self) -> InjectsWhile | None:
        """While which sessions it injects; None where the catalogue says it."""
        return self.injects.while_ if isinstance(self.injects, Injected) else None
