"""The kinds of exit. A new kind is one file here and one line in `KINDS`."""

from functools import reduce
from operator import or_
from typing import Annotated, Any

from pydantic import Field, GetCoreSchemaHandler
from pydantic_core import CoreSchema

from fenrask.estate.exits.circuit import Circuit, PrivateLine, Tunnel
from fenrask.estate.exits.contract import (
    Announcing,
    Counted,
    Decision,
    ExitModel,
    Inspecting,
    InSubnet,
    OfNetwork,
    Onward,
    Passing,
    PassingRule,
    Publishing,
    Translating,
)
from fenrask.estate.exits.direct_internet import DirectInternet
from fenrask.estate.exits.dynamic_address import DynamicAddress
from fenrask.estate.exits.forward_proxy import ForwardProxy
from fenrask.estate.exits.hub import Hub
from fenrask.estate.exits.in_subnet_endpoint import InSubnetEndpoint
from fenrask.estate.exits.inspecting_firewall import InspectingFirewall
from fenrask.estate.exits.ipv6_outbound import Ipv6Outbound
from fenrask.estate.exits.peering import Peering
from fenrask.estate.exits.private_endpoint import PrivateEndpoint
from fenrask.estate.exits.published import Published
from fenrask.estate.exits.routed_endpoint import RoutedEndpoint
from fenrask.estate.exits.translation_gateway import TranslationGateway
from fenrask.estate.exits.translator_host import TranslatorHost

__all__ = [
    "KINDS",
    "Announcing",
    "Counted",
    "Decision",
    "Exit",
    "ExitModel",
    "InSubnet",
    "Inspecting",
    "OfNetwork",
    "Onward",
    "Passing",
    "PassingRule",
    "PrivateEndpoint",
    "PrivateLine",
    "Published",
    "Publishing",
    "Translating",
]

KINDS: dict[str, type[ExitModel]] = {
    "direct-internet": DirectInternet,
    "translation-gateway": TranslationGateway,
    "translator-host": TranslatorHost,
    "inspecting-firewall": InspectingFirewall,
    "forward-proxy": ForwardProxy,
    "routed-endpoint": RoutedEndpoint,
    "in-subnet-endpoint": InSubnetEndpoint,
    "peering": Peering,
    "hub": Hub,
    "circuit": Circuit,
    "tunnel": Tunnel,
    "ipv6-outbound": Ipv6Outbound,
    "dynamic-address": DynamicAddress,
}


class _OfAnyKind:
    """Validates an exit by its `kind`, among all that are in `KINDS` when a model's validator is built."""

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        kinds = reduce(or_, KINDS.values())
        return handler.generate_schema(Annotated[kinds, Field(discriminator="kind")])


Exit = Annotated[ExitModel, _OfAnyKind()]
"""Any exit, told apart by its `kind`. What every exit answers is `ExitModel`; the rest are roles."""
