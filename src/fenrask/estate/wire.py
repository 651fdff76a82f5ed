"""What flows put on the wire: packets, and bytes with their headers, from what connections carry.

A TCP connection takes three packets to open and three to close (RFC 9293), one for each full segment, and an
acknowledgement for every second segment of either way, one at least (RFC 9293, 3.8.6.3; RFC 5681). A segment carries
1,448 bytes at an MTU of 1,500: headers of IPv4, TCP and its timestamps (RFC 7323) take 52. UDP has datagrams alone,
with headers of 28.
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from fenrask.units import KIB, SECONDS_PER_HOUR

if TYPE_CHECKING:
    from fenrask.estate.traffic import Traffic

__all__ = ["OnWire"]

Series = NDArray[np.float64]
_GIB = 2**30
_MTU, _TCP, _UDP = 1500, 52, 28
_OPEN_AND_CLOSE = 6


@dataclass(frozen=True)
class OnWire:
    """packets_per_s, bytes_per_s: of each flow, in a mean second of the month, both ways; shape (n_flows,)."""

    packets_per_s: Series
    bytes_per_s: Series

    @classmethod
    def of(cls, traffic: "Traffic") -> "OnWire":
        """Where a flow states the size of its packets, its volumes are those of the wire already."""
        month_s = float(traffic.hours_per_month) * SECONDS_PER_HOUR
        # Requests over connections that are kept have segments of their own each; only connections open and close.
        new, opened, protocols = traffic.mean_asked_per_s, traffic.mean_new_per_s, traffic.protocols
        is_udp = np.array([name == "udp" for name in protocols[0]], dtype=bool)[protocols[1]][traffic.destination]
        payload, packets = np.zeros(new.size), np.zeros(new.size)
        header = np.where(is_udp, _UDP, _TCP)
        whole = traffic.estate.volumes == "wire"
        room = np.full(new.size, float(_MTU)) if whole else _MTU - header
        for way in ("out", "in"):
            month = traffic.stated(f"{way}_gib_per_month", np.nan)
            each = new * traffic.stated(f"{way}_kib_per_connection", 0.0) * KIB
            volume = np.where(np.isnan(month), each, month * _GIB / month_s)
            payload += volume
            by_connection = np.divide(volume, new, out=np.zeros(new.size), where=new > 0)
            # At least one segment each way: a request, an answer. A pool that is always open has full ones alone.
            segments = np.where(new > 0, new * np.maximum(1.0, np.ceil(by_connection / room)), volume / room)
            acknowledged = np.where(new > 0, new * np.ceil(segments / np.maximum(new, 1e-300) / 2), segments / 2)
            packets += segments + np.where(is_udp, 0.0, acknowledged)
        packets += np.where(is_udp, 0.0, _OPEN_AND_CLOSE * opened)
        stated = traffic.stated("packet_bytes", np.nan)
        of_size = ~np.isnan(stated)
        packets = np.where(of_size, payload / np.where(of_size, stated, 1.0), packets)
        return cls(packets, payload if whole else np.where(of_size, payload, payload + packets * header))
