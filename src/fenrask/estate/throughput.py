"""Caps on what passes: of an offer, of one of its nodes, of a host's interface."""

from pydantic import Field

from fenrask.estate.values import Count, Number, Strict

__all__ = ["Throughput"]


class Throughput(Strict):
    """Caps on what passes; one that is not given does not exist."""

    connections: Count | None = Field(None, description="concurrent connections in all")
    new_per_s: Number | None = Field(None, description="new connections per second")
    gbit_per_s: Number | None = Field(None, description="bits per second both ways together, in 10^9")
    out_gbit_per_s: Number | None = Field(None, description="bits per second that are sent, in 10^9")
    in_gbit_per_s: Number | None = Field(None, description="bits per second that are received, in 10^9")
    connection_gbit_per_s: Number | None = Field(None, description="bits per second of one connection, in 10^9")
    packets_per_s: Number | None = Field(None, description="packets per second both ways together")
