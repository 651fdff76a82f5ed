"""A proxy that carries named web traffic on its hosts' behalf."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import Translating

__all__ = ["ForwardProxy"]


class ForwardProxy(Translating):
    purpose: ClassVar[str] = "carries named web traffic on its hosts' behalf, from its own addresses"
    is_machine: ClassVar[bool] = True

    kind: Literal["forward-proxy"]
    offer: str = Field(description="the catalogue's offer")
    subnet: str = Field(description="the subnet it stands in, whose table leads on")
    destinations: Annotated[tuple[str, ...], Field(min_length=1)] = Field(
        description="the destinations that hosts of its network ask it for"
    )

    @property
    def translates(self) -> bool:
        return True

    @property
    def in_subnets(self) -> tuple[str, ...]:
        return (self.subnet,)

    @property
    def carries(self) -> tuple[str, ...]:
        return self.destinations

    @property
    def found_by_name(self) -> bool:
        return True
