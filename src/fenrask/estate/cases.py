"""What may go wrong at once: a named case for `stress`."""

from typing import Annotated, Literal

from pydantic import Field

from fenrask.estate.values import MOST, Number, Strict

__all__ = ["Case"]


class Reconnect(Strict):
    """How clients come back that lost their connections at one time."""

    policy: Literal["fixed", "backoff", "jitter"] = Field(
        description="after base_s each; after base_s, twice that and so on; after a random part of that"
    )
    base_s: Annotated[float, Field(strict=True, gt=0, le=MOST)] = Field(1.0, description="the first wait, s")
    max_s: Annotated[float, Field(strict=True, gt=0, le=MOST)] = Field(32.0, description="the longest wait, s")

    @property
    def within_s(self) -> float:
        """Over which all come back, s: in one second without chance; over the longest wait once that is reached."""
        return max(1.0, self.base_s, self.max_s) if self.policy == "jitter" else 1.0


class Case(Strict):
    """Everything that goes wrong together in one case."""

    lose_zones: tuple[str, ...] = Field((), description="zones that are gone; hosts of others take over their load")
    lose_exits: tuple[str, ...] = Field((), description="exits that are gone")
    lose_nodes: dict[str, Annotated[int, Field(strict=True, ge=1)]] = Field(
        {}, description="nodes or machines that are gone, by exit"
    )
    sessions_down: tuple[str, ...] = Field(
        (), description="exits whose routing sessions are down; EXIT/ROUTER for one of several routers"
    )
    slow: dict[str, Annotated[float, Field(strict=True, ge=1, le=MOST)]] = Field(
        {}, description="destinations, by name, and the factor by which connections to them last longer"
    )
    silent: tuple[str, ...] = Field(
        (), description="destinations that answer no more: each try of theirs keeps a port for the offer's timeout"
    )
    rejecting: tuple[str, ...] = Field(
        (), description="destinations that reject all connections: a reset for each, and no life"
    )
    resolver_down: tuple[str, ...] = Field(
        (), description="destinations that resolve names no more: asked twice, and their hosts open nothing by name"
    )
    load_up: Number = Field(0.0, description="share by which all loads rise: 0.5 for half as much again")
    reopen_within_s: Annotated[float, Field(strict=True, gt=0, le=MOST)] | None = Field(
        None, description="all open connections are opened again within this many seconds"
    )

    reconnect: Reconnect | None = Field(
        None, description="instead of reopen_within_s: all open connections come back by this policy"
    )

    @property
    def destinations(self) -> tuple[str, ...]:
        """All that it names."""
        return (*self.slow, *self.silent, *self.rejecting, *self.resolver_down)

    @property
    def storm_s(self) -> float | None:
        """Within how many seconds all open connections are opened again; None where they are not."""
        return self.reconnect.within_s if self.reconnect and self.reopen_within_s is None else self.reopen_within_s

    def joined(self, other: "Case") -> "Case":
        """Both at once; the stricter where both say the same."""
        spans = [one.storm_s for one in (self, other) if one.storm_s is not None]
        return Case(
            lose_zones=tuple(dict.fromkeys((*self.lose_zones, *other.lose_zones))),
            lose_exits=tuple(dict.fromkeys((*self.lose_exits, *other.lose_exits))),
            lose_nodes={**self.lose_nodes, **other.lose_nodes},
            sessions_down=tuple(dict.fromkeys((*self.sessions_down, *other.sessions_down))),
            slow={**self.slow, **other.slow},
            silent=tuple(dict.fromkeys((*self.silent, *other.silent))),
            rejecting=tuple(dict.fromkeys((*self.rejecting, *other.rejecting))),
            resolver_down=tuple(dict.fromkeys((*self.resolver_down, *other.resolver_down))),
            load_up=(1 + self.load_up) * (1 + other.load_up) - 1,
            reopen_within_s=min(spans, default=None),
        )
