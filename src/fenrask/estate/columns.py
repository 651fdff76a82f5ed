"""What the flows of an estate state, as columns: read once for all estates that have these very flows."""

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.estate.flow_table import FlowTable
from fenrask.estate.flows import Flow

__all__ = ["Columns", "Numbers", "Series"]

Series = NDArray[np.float64]
Numbers = NDArray[np.intp]


@dataclass(frozen=True, eq=False)
class Columns:
    """Flows, one a row; columns have shape (n_flows,)."""

    flows: Mapping[str, Flow]
    _known: dict[Hashable, Any] = field(default_factory=dict, init=False, repr=False)
    """What was asked for before."""

    @cached_property
    def names(self) -> tuple[str, ...]:
        """Their names."""
        return tuple(self.flows)

    @cached_property
    def number(self) -> dict[str, int]:
        """The row of each."""
        return {name: row for row, name in enumerate(self.names)}

    @cached_property
    def texts(self) -> tuple[Sequence[str], Sequence[str], Sequence[str]]:
        """The workload, the other end (as in `Estate.remotes`) and the profile of each, empty for none."""
        if isinstance(self.flows, FlowTable) and not self.flows.has_inward:
            return self.flows.texts("from"), self.flows.texts("to"), self.flows.texts("profile")
        each = [*self.flows.values()]
        return [one.workload for one in each], [one.remote for one in each], [one.profile or "" for one in each]

    @cached_property
    def profiles(self) -> tuple[str, ...]:
        """The names of all profiles in use; the first is empty, that of a constant load."""
        return tuple(dict.fromkeys(("", *self.texts[2])))

    def numbered(self, which: int, names: tuple[str, ...]) -> Numbers:
        """One of the texts as numbers into some names, which hold all of them."""
        found: Numbers = self._kept((which, names), lambda: _numbers(self.texts[which], names))
        return found

    def stated(self, key: str, otherwise: float) -> Series:
        """What flows have under a key, stated or by default; `otherwise` for those that have nothing."""
        found: Series = self._kept(key, lambda: self._stated(key))
        return np.where(np.isnan(found), otherwise, found)

    def _stated(self, key: str) -> Series:
        if isinstance(self.flows, FlowTable):
            default, values = self.flows.defaults[key], self.flows.stated(key)
            return values if default is None else np.where(np.isnan(values), default, values)
        each = (getattr(flow, key) for flow in self.flows.values())
        return np.array([np.nan if value is None else value for value in each], dtype=np.float64)

    @cached_property
    def pooled(self) -> tuple[int, ...]:
        """The rows of those that state requests, which a pool of connections carries."""
        if isinstance(self.flows, FlowTable) and "requests_per_host_per_s" not in self.flows.numbers:
            return ()
        return tuple(row for row, flow in enumerate(self.flows.values()) if flow.is_pooled)

    @cached_property
    def duration_mean_s(self) -> Series:
        """Mean life of what each states, connections or requests, s."""
        if isinstance(self.flows, FlowTable):
            return self.stated("duration_s", 0.0)
        return np.array([flow.duration_mean_s for flow in self.flows.values()])

    def endings(self, duration_s: Series) -> tuple[list[Flow], Numbers]:
        """Examples of flows whose connections end in one way and last by one law, but for its mean; each flow's number.

        duration_s: the mean life of the connections of each.
        """
        if isinstance(self.flows, FlowTable):
            keys = (duration_s == 0).astype(np.intp)
            for key in self.flows.numbers.keys() & Flow.HANG_TOGETHER:
                _, column = np.unique(self.stated(key, -1.0), return_inverse=True)
                keys = np.unique(keys * (int(column.max(initial=0)) + 1) + column, return_inverse=True)[1]
            _, first, numbers = np.unique(keys, return_index=True, return_inverse=True)
            return [self.flows[self.names[row]] for row in first.tolist()], numbers
        return self._endings

    @cached_property
    def _endings(self) -> tuple[list[Flow], Numbers]:
        known: dict[Hashable, int] = {}
        examples: list[Flow] = []
        found = []
        for flow in self.flows.values():
            number = known.setdefault(flow.ending_key, len(examples))
            if number == len(examples):
                examples.append(flow)
            found.append(number)
        return examples, np.array(found, dtype=np.intp)

    def _kept(self, key: Hashable, made: Callable[[], Any]) -> Any:
        if key not in self._known:
            self._known[key] = made()
        return self._known[key]


def _numbers(texts: Sequence[str], names: tuple[str, ...]) -> Numbers:
    places = {name: place for place, name in enumerate(names)}
    return np.array([places[text] for text in texts], dtype=np.intp)
