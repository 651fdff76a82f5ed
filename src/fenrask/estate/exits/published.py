"""Ports at addresses of an exit that are forwarded to hosts behind it."""

from typing import Literal

from pydantic import Field

from fenrask.estate.values import AddressText, PortNumber, Strict

__all__ = ["Published"]


class Published(Strict):
    """A port at an address of an exit that is forwarded to hosts behind it (destination translation, RFC 2663)."""

    address: AddressText | None = Field(None, description="its address; default: the first one")
    port: PortNumber = Field(description="the port there")
    protocol: Literal["tcp", "udp"] = Field("tcp", description="transport protocol")
    to: str = Field(description="the workload whose hosts it is forwarded to, evenly")
    to_port: PortNumber | None = Field(None, description="the port of these hosts; default: the same")
    rewrites_source: bool = Field(
        False, description="whether hosts see the exit's own address, not that of who comes in: replies then find it"
    )

    @property
    def host_port(self) -> int:
        return self.to_port or self.port
