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

__all__ = ["MTU", "OnWire"]

Series = NDArray[np.float64]
_GIB = 2**30
MTU = 1500
"""Bytes of the largest packet where nothing else is said (RFC 894)."""
_TCP, _UDP = 52, 28
_OPEN_AND_CLOSE = (4, 2)


@dataclass(frozen=True)
class OnWire:
    """What each flow puts on the wire in a mean second of the month, shape (n_flows,).

    packets_per_s: both ways; out_per_s, in_per_s: bytes sent and received.
    """

    packets_per_s: Series
    out_per_s: Series
    in_per_s: Series

    @property
    def bytes_per_s(self) -> Series:
        """Bytes both ways."""
        return self.out_per_s + self.in_per_s

    @classmethod
    def of(cls, traffic: "Traffic", mtu: int = MTU, overhead: int = 0) -> "OnWire":
        """Where a flow states the size of its packets, its volumes are those of the wire already.

        mtu: bytes of the largest packet on the path; overhead: bytes that a tunnel adds to each.
        """
        month_s = float(traffic.hours_per_month) * SECONDS_PER_HOUR
        # Requests over connections that are kept have segments of their own each; only connections open and close.
        new, opened, protocols = traffic.mean_asked_per_s, traffic.mean_new_per_s, traffic.protocols
        is_udp = np.array([name == "udp" for name in protocols[0]], dtype=bool)[protocols[1]][traffic.destination]
        header = np.where(is_udp, _UDP, _TCP)
        whole = traffic.estate.volumes == "wire"
        room = np.full(new.size, float(mtu)) if whole else float(mtu) - header
        stated = traffic.stated("packet_bytes", np.nan)
        of_size = ~np.isnan(stated)
        ways, payloads, acknowledgements = [], [], []
        for way in ("out", "in"):
            month = traffic.stated(f"{way}_gib_per_month", np.nan)
            each = new * traffic.stated(f"{way}_kib_per_connection", 0.0) * KIB
            volume = np.where(np.isnan(month), each, month * _GIB / month_s)
            by_connection = np.divide(volume, new, out=np.zeros(new.size), where=new > 0)
            # At least one segment each way: a request, an answer. A pool that is always open has full ones alone.
            segments = np.where(new > 0, new * np.maximum(1.0, np.ceil(by_connection / room)), volume / room)
            in_each = np.divide(segments, new, out=np.zeros(new.size), where=new > 0)
            acknowledged = np.where(new > 0, new * np.ceil(in_each / 2), segments / 2)
            ways.append(segments)
            payloads.append(volume)
            acknowledgements.append(np.where(is_udp, 0.0, acknowledged))
        # Of what opens and closes: SYN, ACK, FIN and ACK go out, SYN and ACK, FIN come in.
        closing = [np.where(is_udp, 0.0, number * opened) for number in _OPEN_AND_CLOSE]
        packets = [ways[0] + acknowledgements[1] + closing[0], ways[1] + acknowledgements[0] + closing[1]]
        sent = []
        for number, volume in zip(packets, payloads, strict=True):
            number[of_size] = volume[of_size] / stated[of_size]
            headers = np.where(of_size, 0, header) if not whole else np.zeros(new.size)
            sent.append(volume + number * (headers + overhead))
        return cls(packets[0] + packets[1], *sent)
