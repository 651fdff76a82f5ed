"""A private way into a provider's service, entered by a route."""

from typing import ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.private_endpoint import PrivateEndpoint

__all__ = ["RoutedEndpoint"]


class RoutedEndpoint(PrivateEndpoint):
    purpose: ClassVar[str] = "private way into a provider's service, entered by a route to the service's prefixes"

    kind: Literal["routed-endpoint"]
    network: str = Field(description="the network it belongs to")

    @property
    def of_network(self) -> str | None:
        return self.network
