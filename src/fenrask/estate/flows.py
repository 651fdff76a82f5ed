"""One workload's traffic to one destination: how much, how long, how it ends."""

from typing import Annotated, ClassVar, Literal, Self

from pydantic import ConfigDict, Field, model_validator

from fenrask.estate.durations import DurationLaw, Life
from fenrask.estate.growth import LoadGrowth
from fenrask.estate.values import (
    MOST,
    Count,
    Number,
    PortNumber,
    Share,
    Strict,
    Uncertain,
    UncertainGrowth,
    unfit,
)

__all__ = ["ENDINGS", "LOADS", "Ending", "Flow"]

Ending = Literal[
    "closed", "reset", "half_closed", "rejected", "unanswered", "idle", "udp_one_way", "udp_answered", "udp_streaming"
]
ENDINGS: tuple[Ending, ...] = (
    "closed", "reset", "half_closed", "rejected", "unanswered", "idle", "udp_one_way", "udp_answered", "udp_streaming"
)  # fmt: skip
"""How a connection can end; a translator may keep its port for another time after each."""

LOADS = ("per_host_per_s", "requests_per_host_per_s", "users", "persistent_per_host")
"""The keys that state a flow's load, of which it has one."""
_OF_POOLS = ("pool_idle_s", "pool_max", "requests_at_once")
_ENDING_SHARES = ("reset_share", "half_closed_share", "rejected_share", "unanswered_share")
_UDP_SHARES = ("udp_one_way_share", "udp_streaming_share")


class Flow(Strict):
    """One workload's traffic to one destination; or, with a `port`, from whom it comes to one port of its hosts."""

    model_config = ConfigDict(validate_by_alias=True, serialize_by_alias=True)
    HANG_TOGETHER: ClassVar[frozenset[str]] = frozenset(
        (
            "port",
            "requests_per_host_per_s",
            *_OF_POOLS,
            "users",
            "connections_per_user",
            "persistent_per_host",
            "every_s",
            "at_s",
            "job_share",
            "spread_s",
            "closed_share",
            *_ENDING_SHARES,
            *_UDP_SHARES,
        )
    )
    """Keys whose values, not only that they are there, decide with others whether a flow holds together."""

    from_: str = Field(
        alias="from",
        description="the workload; of a flow that comes in: `internet`, a third party, a destination or a network",
    )
    to: str = Field(description="the destination; of a flow that comes in: the workload")
    port: PortNumber | None = Field(
        None, description="of a flow that comes in, and what makes it one: the port of the hosts that it is to"
    )
    protocol: Literal["tcp", "udp"] | None = Field(
        None, description="of a flow that comes in: its transport protocol; default: tcp"
    )
    measured: str | None = Field(
        None, description="instead of a stated load: the file beside the estate that `fenrask measure --save` wrote"
    )
    per_host_per_s: Uncertain | None = Field(None, description="new connections of each host per second")
    requests_per_host_per_s: Uncertain | None = Field(
        None, description="requests of each host per second, over connections that its client keeps and shares"
    )
    pool_idle_s: Annotated[float, Field(strict=True, gt=0, le=86_400)] | None = Field(
        None, description="of requests: seconds without one after which the client closes a connection"
    )
    pool_max: Annotated[int, Field(strict=True, ge=1, le=100_000)] | None = Field(
        None, description="of requests: connections that a host's client keeps at most; further requests wait"
    )
    requests_at_once: Annotated[int, Field(strict=True, ge=1, le=10_000)] = Field(
        1, description="of requests: those that one connection carries at a time"
    )
    users: Uncertain | None = Field(None, description="people at work at once when the profile's multiplier is 1")
    connections_per_user: Uncertain | None = Field(None, description="connections that each of them holds at once")
    persistent_per_host: Uncertain | None = Field(
        None, description="connections that each host keeps open all the time"
    )
    max_per_host: Annotated[int, Field(strict=True, ge=1)] | None = Field(
        None, description="connections that a host holds at most, by its own limit"
    )
    profile: str | None = Field(None, description="the load profile that multiplies the load; default: constant")
    burstiness: Annotated[float, Field(strict=True, gt=0, le=MOST)] = Field(
        1.0, description="variance-to-mean ratio of busy connections; 1 for arrivals independent of each other"
    )
    batch: Annotated[float, Field(strict=True, ge=1, le=1e6)] = Field(
        1.0, description="connections that come at one instant, on average; it adds to burstiness"
    )
    every_s: Annotated[float, Field(strict=True, gt=0, le=86_400)] | None = Field(
        None, description="seconds between two starts of a job that opens the same load on all hosts at one time"
    )
    at_s: Annotated[float, Field(strict=True, ge=0, le=86_400)] | None = Field(
        None, description="seconds after midnight at which a start of the job is; default: with any other job's"
    )
    spread_s: Annotated[float, Field(strict=True, ge=0, le=86_400)] = Field(
        0.0, description="seconds over which the connections of one start are opened; default: at once"
    )
    job_share: Annotated[float, Field(strict=True, gt=0, le=1)] = Field(
        1.0, description="share of its connections that come with the job's starts; the others come at any time"
    )
    rate_cv: Annotated[float, Field(strict=True, ge=0, le=10)] = Field(
        0.0, description="coefficient of variation of the rate about its profile, within the hour"
    )
    rate_steady_s: Annotated[float, Field(strict=True, gt=0, le=86_400)] = Field(
        300.0, description="seconds for which the rate keeps a level before it takes another"
    )
    day_cv: Annotated[float, Field(strict=True, ge=0, le=10)] = Field(
        0.0, description="coefficient of variation of the load from day to day; see targets.days"
    )
    duration_s: Life = Field(
        1.0,
        description="how long a connection lasts (a request, where these are stated): its mean in s, or a distribution",
    )
    closed_share: Share | None = Field(None, description="closed by both ends; default: all that ends in no other way")
    reset_share: Share = Field(0.0, description="ended by a reset; what remains ends by idle timeout")
    half_closed_share: Share = Field(0.0, description="closed by one end only")
    rejected_share: Share = Field(
        0.0,
        description="rejected by the remote end (RST): no duration, but the port stays taken for the mapping timeout",
    )
    unanswered_share: Share = Field(0.0, description="whose first packet is never answered: no life either")
    udp_one_way_share: Share = Field(0.0, description="of UDP: never answered")
    udp_streaming_share: Share = Field(0.0, description="of UDP: long exchanges; what remains is answered")
    retry_share: Annotated[float, Field(strict=True, ge=0, lt=1)] = Field(
        0.0, description="share of connections that find no free port and are tried again"
    )
    retries: Annotated[int, Field(strict=True, ge=0, le=12)] = Field(
        0, description="instead of retry_share: times it is tried again, 1, 2, 4 ... s after the try before"
    )
    growth_per_month: UncertainGrowth = Field(0.0, description="share by which its load grows each month")
    growth: LoadGrowth | None = Field(None, description="how its load grows otherwise, on top of that; default: not")
    keepalive_s: Number | None = Field(None, description="seconds between keep-alive probes")
    out_kib_per_connection: Uncertain | None = Field(None, description="KiB sent per connection, or per request")
    in_kib_per_connection: Uncertain | None = Field(None, description="KiB received per connection, or per request")
    out_gib_per_month: Uncertain | None = Field(None, description="GiB sent in a month, instead")
    in_gib_per_month: Uncertain | None = Field(None, description="GiB received in a month, instead")
    packet_bytes: Annotated[Count, Field(ge=1)] | None = Field(
        None, description="mean size of its packets, bytes; default: by what a connection carries"
    )

    @property
    def is_inward(self) -> bool:
        """Whether the other end opens its connections."""
        return self.port is not None

    @property
    def workload(self) -> str:
        """The workload at our end."""
        return self.from_ if self.port is None else self.to

    @property
    def remote(self) -> str:
        """The other end, as a key of `Estate.remotes`: the destination, or who comes in to which port."""
        if self.port is None:
            return self.to
        return f"{self.from_} to :{self.port}{'/udp' if self.protocol == 'udp' else ''}"

    @property
    def other_end(self) -> str:
        """The other end, by the name that the file gives it."""
        return self.to if self.port is None else self.from_

    @property
    def ends(self) -> tuple[str, str]:
        """Who opens its connections and to whom, as text."""
        return (self.from_, self.to) if self.port is None else (self.from_, f"{self.to}:{self.port}")

    @property
    def transport(self) -> Literal["tcp", "udp"]:
        """The transport protocol of one that comes in."""
        return self.protocol or "tcp"

    @property
    def duration_mean_s(self) -> float:
        """Mean life, s, of connections that come about; of a request, where the client keeps connections."""
        return self.duration_s.mean_s if isinstance(self.duration_s, DurationLaw) else self.duration_s

    @property
    def ending_key(self) -> tuple[object, ...]:
        """What two flows' holds must have in common to differ by a mean alone, at one exit and with one protocol."""
        law = self.duration_s if isinstance(self.duration_s, DurationLaw) and not self.is_pooled else None
        return (law and law.key, self.duration_mean_s == 0, self.is_pooled, *self.ending_shares)

    @property
    def is_pooled(self) -> bool:
        """Whether requests are stated, and connections follow from them."""
        return self.requests_per_host_per_s is not None

    @property
    def ending_shares(self) -> tuple[float | None, float, float, float, float, float, float]:
        """The shares of the ways to end, as they are stated."""
        return (
            self.closed_share,
            self.reset_share,
            self.half_closed_share,
            self.rejected_share,
            self.unanswered_share,
            self.udp_one_way_share,
            self.udp_streaming_share,
        )

    @property
    def quiet_s(self) -> float | None:
        """For how long a connection may be quiet and is used again, s; None where nothing says so."""
        return self.pool_idle_s if self.keepalive_s is None else self.keepalive_s

    def endings(self, protocol: str) -> dict[Ending, float]:
        """The share of each way to end, of `tcp` or `udp`; they sum to 1."""
        if protocol == "udp":
            one_way, streaming = self.udp_one_way_share, self.udp_streaming_share
            answered = max(0.0, 1.0 - one_way - streaming)
            return {"udp_one_way": one_way, "udp_answered": answered, "udp_streaming": streaming}
        others = self.reset_share + self.half_closed_share + self.rejected_share + self.unanswered_share
        closed = max(0.0, 1.0 - others) if self.closed_share is None else self.closed_share
        return {
            "closed": closed,
            "reset": self.reset_share,
            "half_closed": self.half_closed_share,
            "rejected": self.rejected_share,
            "unanswered": self.unanswered_share,
            "idle": max(0.0, 1.0 - closed - others),
        }

    def _check_times(self) -> None:
        """Whether jobs' times, and tries, hang together."""
        if self.spread_s and (self.every_s is None or self.spread_s > self.every_s):
            raise unfit("spread_s of at most every_s", "State every_s, or a shorter spread_s.")
        for key in ("at_s", "job_share"):
            if key in self.model_fields_set and self.every_s is None and getattr(self, key) not in (None, 1.0):
                raise unfit(f"every_s beside {key}", "It says how often the job starts.")
        if self.every_s is not None and self.per_host_per_s is None:
            raise unfit("every_s with per_host_per_s", "per_host_per_s times every_s is what a host opens each time.")
        # That both are there is enough: a table of flows then needs one row to tell, not all.
        if {"retries", "retry_share"} <= self.model_fields_set:
            raise unfit("retries or retry_share, not both")

    def _check_pool(self) -> None:
        """Whether requests, and what a client keeps for them, hang together."""
        given = [key for key in _OF_POOLS if key in self.model_fields_set]
        if not self.is_pooled:
            if given:
                raise unfit(f"requests_per_host_per_s beside {given[0]}", "They say what a client does with requests.")
            return
        if self.pool_idle_s is None:
            raise unfit("pool_idle_s beside requests_per_host_per_s", "It says how long the client keeps a connection.")
        if self.max_per_host is not None:
            raise unfit("pool_max, not max_per_host, where requests are stated")
        if self.duration_mean_s == 0:
            raise unfit("a request that takes longer than 0 s", "Set duration_s.")

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.protocol is not None and self.port is None:
            raise unfit("`port` beside `protocol`", "Give the port too; a flow that goes out has its destination's.")
        given = [key for key in LOADS if getattr(self, key) is not None]
        if len(given) != 1:
            but = f", not {' and '.join(given)}" if given else ""
            raise unfit(f"one of {', '.join(LOADS)}{but}", "State the flow's load in one way.")
        if (self.users is None) != (self.connections_per_user is None):
            raise unfit("users together with connections_per_user", "Give both or neither.")
        if self.users is not None and self.duration_mean_s == 0:
            raise unfit("a duration_s above 0 where users are stated", "Set duration_s.")
        closed, reset, half_closed, rejected, unanswered, one_way, streaming = self.ending_shares
        tcp = (closed or 0.0) + reset + half_closed + rejected + unanswered
        for total, shares in ((tcp, ("closed_share", *_ENDING_SHARES)), (one_way + streaming, _UDP_SHARES)):
            if total > 1.0 + 1e-12:
                raise unfit(f"{', '.join(shares[:-1])} and {shares[-1]} that sum to at most 1")
        self._check_times()
        self._check_pool()
        for way, each, month in (
            ("out", self.out_kib_per_connection, self.out_gib_per_month),
            ("in", self.in_kib_per_connection, self.in_gib_per_month),
        ):
            if each is not None and month is not None:
                raise unfit(f"{way}_kib_per_connection or {way}_gib_per_month, not both")
        if self.persistent_per_host is not None and (self.out_kib_per_connection or self.in_kib_per_connection):
            raise unfit("out_gib_per_month and in_gib_per_month for a standing pool", "Give its volume by the month.")
        return self
