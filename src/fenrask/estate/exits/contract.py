"""What every kind of exit tells the other layers, so that none of them names a kind."""

from enum import Enum
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Discriminator, Field, Tag

from fenrask.estate.values import AddressText, Count, Strict

__all__ = ["Addresses", "ExitModel", "Onward", "StatedAddresses", "Translating"]


class Onward(Enum):
    """What happens to a packet after an exit."""

    TABLE = "looked up in the table of the exit's own subnet"
    INTERNET = "on the internet"
    SERVICE = "in the provider's service, privately"


def _addresses_shape(value: Any) -> str:
    if isinstance(value, list | tuple):
        return "listed"
    return "auto" if isinstance(value, str) else "count"


StatedAddresses = tuple[AddressText, ...]
Addresses = Annotated[
    Annotated[Literal["auto"], Tag("auto")]
    | Annotated[Count, Tag("count")]
    | Annotated[StatedAddresses, Tag("listed")],
    Discriminator(_addresses_shape),
]
"""`auto` (let the tool say how many), a number of addresses, or the addresses themselves."""


class ExitModel(Strict):
    """The contract of an exit. A kind is one file: its keys, and its answers to these questions."""

    purpose: ClassVar[str] = ""
    """One sentence for the documentation."""
    needs_offer: ClassVar[bool] = True
    """Whether a catalogue offer of the same kind stands behind it."""
    inspects: ClassVar[bool] = False
    """Whether it inspects what passes, so that the need `inspected` is met."""
    fixed_source: ClassVar[bool] = True
    """Whether the address it shows stays the same."""
    fallback: ClassVar[bool] = False
    """Whether it takes what no route of its network matches."""

    kind: str

    @property
    def onward(self) -> Onward:
        """What happens to a packet after this exit."""
        return Onward.TABLE

    @property
    def translates(self) -> bool:
        """Whether it rewrites the source to addresses of its own."""
        return False

    @property
    def needs_public_source(self) -> bool:
        """Whether it lets out only what has a public source address."""
        return False

    @property
    def stands_in(self) -> tuple[str, ...]:
        """The subnets it stands in; none for an exit of a whole network."""
        return ()

    @property
    def of_network(self) -> str | None:
        """The network it is an exit of, where it does not stand in a subnet."""
        return None

    @property
    def carries(self) -> str | None:
        """The one destination it carries, by name; None for any."""
        return None

    @property
    def found_by_name(self) -> bool:
        """Whether hosts reach it because the destination's name resolves to it, not by a route."""
        return False

    @property
    def units(self) -> int:
        """How many times its hourly rate is paid."""
        return 1

    @property
    def stated_addresses(self) -> int | None:
        """How many public addresses it is said to have; None to let the tool size it."""
        return 0

    @property
    def listed_addresses(self) -> StatedAddresses:
        """The public addresses it has, where they are written down."""
        return ()


class Translating(ExitModel):
    """The common part of exits that show public addresses of their own."""

    addresses: Addresses = Field("auto", description="`auto`, how many public addresses, or a list of them")

    @property
    def stated_addresses(self) -> int | None:
        if isinstance(self.addresses, tuple):
            return len(self.addresses)
        return None if isinstance(self.addresses, str) else self.addresses

    @property
    def listed_addresses(self) -> StatedAddresses:
        return self.addresses if isinstance(self.addresses, tuple) else ()
