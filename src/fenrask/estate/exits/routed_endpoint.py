"""A private way into a provider's service, entered by a route."""

from typing import ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import ExitModel, Onward

__all__ = ["RoutedEndpoint"]


class RoutedEndpoint(ExitModel):
    purpose: ClassVar[str] = (
        "private way into a provider's service, entered by a route to the service's prefixes"
    )

    kind: Literal["routed-endpoint"]
    offer: str = Field(description="the catalogue's offer")
    network: str = Field(description="the network it belongs to")
    destination: str = Field(description="the service it leads to")

    @property
    def onward(self) -> Onward:
        return Onward.SERVICE

    @property
    def of_network(self) -> str | None:
        return self.network

    @property
    def carries(self) -> str | None:
        return self.destination
