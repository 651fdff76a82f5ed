"""A private path into a provider's service, entered by a route."""

from typing import ClassVar, Literal

from fenrask.estate.exits.contract import OfNetwork
from fenrask.estate.exits.private_endpoint import PrivateEndpoint

__all__ = ["RoutedEndpoint"]


class RoutedEndpoint(OfNetwork, PrivateEndpoint):
    purpose: ClassVar[str] = "private path into a provider's service, entered by a route to the service's prefixes"

    entered_by_route: ClassVar[bool] = True

    kind: Literal["routed-endpoint"]
