"""Made-up connection records of a day, in several formats, and the estate that they are of."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import yaml
from numpy.typing import NDArray

from fenrask.demo import BEGINNING

__all__ = ["DAY", "Made", "made", "write_capture", "write_estate", "write_ipfix", "write_v5"]

DAY = 1_789_948_800
"""When it begins, s since 1970."""
_PORT = 443
_LENGTHS = (0, 100, 900)
"""Bytes carried by the packets that open, ask and answer."""


@dataclass(frozen=True)
class Made:
    """Records in rising order of their beginning; columns of shape (n_records,)."""

    start_ms: NDArray[np.int64]
    end_ms: NDArray[np.int64]
    source: NDArray[np.int64]
    target: NDArray[np.int64]
    source_port: NDArray[np.int64]
    octets: NDArray[np.int64]

    def texts(self, addresses: NDArray[np.int64]) -> list[str]:
        """A column of addresses as text."""
        different, place = np.unique(addresses, return_inverse=True)
        text = np.array([".".join(str(one >> shift & 255) for shift in (24, 16, 8, 0)) for one in different.tolist()])
        found: list[str] = text[place].tolist()
        return found


def made(records: int, subnets: int, destinations: int, seed: int = 1) -> Made:
    """Connections that begin at any time of a day, of durations that are exponential with a mean of 12 s."""
    dice = np.random.default_rng(seed)
    start = np.sort(dice.integers(0, 86_400_000, records)) + DAY * 1000
    length = np.round(dice.exponential(12_000, records)).astype(np.int64)
    source = (10 << 24) + (dice.integers(0, subnets, records) << 8) + dice.integers(1, 250, records)
    target = (198 << 24 | 18 << 16) + (dice.integers(0, destinations, records) << 8) + dice.integers(1, 12, records)
    return Made(
        start, start + length, source, target, dice.integers(1024, 65536, records), dice.integers(200, 9000, records)
    )


def write_estate(folder: Path, subnets: int, destinations: int) -> Path:
    """An estate of one exit with this many subnets and destinations, each a /24; the estate file."""
    estate = {
        "estate": "Records",
        "catalogue": "catalogue.yaml",
        "networks": {"net": {"prefixes": ["10.0.0.0/8"]}},
        "subnets": {
            f"s{n}": {"network": "net", "prefix": f"10.{n >> 8}.{n & 255}.0/24", "routes": "out"}
            for n in range(subnets)
        },
        "route_tables": {"out": {"0.0.0.0/0": "door"}},
        "exits": {"door": {"kind": "direct-internet", "network": "net"}},
        "destinations": {
            f"d{n}": {"prefixes": [f"198.{18 + (n >> 8)}.{n & 255}.0/24"], "port": _PORT} for n in range(destinations)
        },
    }
    (folder / "catalogue.yaml").write_bytes(BEGINNING.contents()["catalogue.yaml"])
    path = folder / "estate.yaml"
    path.write_text(yaml.dump(estate, Dumper=yaml.CSafeDumper, sort_keys=False))
    return path


_IPFIX = np.dtype(
    [
        ("start", ">u8"), ("end", ">u8"), ("source", ">u4"), ("target", ">u4"), ("sport", ">u2"), ("dport", ">u2"),
        ("protocol", "u1"), ("flags", "u1"), ("octets", ">u8"),
    ]
)  # fmt: skip
_FIELDS = ((152, 8), (153, 8), (8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (6, 1), (1, 8))
_ACK_SYN_FIN = 0x13


def write_ipfix(path: Path, records: Made, of_a_message: int = 30) -> None:
    """A file of IPFIX messages (RFC 7011), a template at its beginning, in order of the records' ends."""
    order = np.argsort(records.end_ms, kind="stable")
    rows = np.zeros(order.size, dtype=_IPFIX)
    columns = {
        "start": records.start_ms, "end": records.end_ms, "source": records.source, "target": records.target,
        "sport": records.source_port, "octets": records.octets,
    }  # fmt: skip
    for name, column in columns.items():
        rows[name] = column[order]
    rows["dport"], rows["protocol"], rows["flags"] = _PORT, 6, _ACK_SYN_FIN
    fields = np.array(_FIELDS, dtype=">u2").tobytes()
    template = np.array([2, 8 + len(fields), 256, len(_FIELDS)], dtype=">u2").tobytes() + fields
    with path.open("wb") as file:
        for at in range(0, rows.size, of_a_message):
            some = rows[at : at + of_a_message]
            body = np.array([256, 4 + some.nbytes], dtype=">u2").tobytes() + some.tobytes()
            sets = template + body if at == 0 else body
            now = int(some["end"][-1]) // 1000 + 1
            head = np.array([10, 16 + len(sets)], dtype=">u2").tobytes()
            file.write(head + np.array([now, at, 3], dtype=">u4").tobytes() + sets)


_V5 = np.dtype(
    [
        ("source", ">u4"), ("target", ">u4"), ("next", ">u4"), ("in", ">u2"), ("out", ">u2"), ("packets", ">u4"),
        ("octets", ">u4"), ("first", ">u4"), ("last", ">u4"), ("sport", ">u2"), ("dport", ">u2"), ("pad", "u1"),
        ("flags", "u1"), ("protocol", "u1"), ("rest", "V9"),
    ]
)  # fmt: skip


def write_v5(path: Path, records: Made) -> None:
    """A file of NetFlow v5 messages of 30 records each, in order of their ends."""
    order = np.argsort(records.end_ms, kind="stable")
    rows, boot = np.zeros(order.size, dtype=_V5), DAY - 1000
    rows["source"], rows["target"] = records.source[order], records.target[order]
    rows["first"], rows["last"] = records.start_ms[order] - boot * 1000, records.end_ms[order] - boot * 1000
    rows["sport"], rows["dport"], rows["octets"] = records.source_port[order], _PORT, records.octets[order]
    rows["packets"], rows["protocol"], rows["flags"] = 3, 6, _ACK_SYN_FIN
    with path.open("wb") as file:
        for at in range(0, rows.size, 30):
            some = rows[at : at + 30]
            now = int(some["last"][-1]) // 1000 + 1
            head = np.array([5, some.size], dtype=">u2").tobytes()
            file.write(head + np.array([now * 1000, boot + now, 0, at, 0, 0], dtype=">u4").tobytes()[: 4 * 4])
            file.write(b"\0" * 4 + some.tobytes())


def write_capture(path: Path, records: Made) -> None:
    """A packet capture of six packets a connection: both SYNs, a request, an answer, both FINs."""
    order = [
        (True, 0x02, 0),
        (False, 0x12, 0),
        (True, 0x18, 100),
        (False, 0x18, 900),
        (True, 0x11, 0),
        (False, 0x11, 0),
    ]
    n, times = records.start_ms.size, np.linspace(0, 1, len(order))
    packet = np.dtype(
        [
            ("s", "<u4"), ("us", "<u4"), ("kept", "<u4"), ("long", "<u4"), ("ends", "V12"), ("kind", ">u2"),
            ("version", "u1"), ("tos", "u1"), ("length", ">u2"), ("id", ">u4"), ("ttl", "u1"), ("protocol", "u1"),
            ("sum", ">u2"), ("source", ">u4"), ("target", ">u4"), ("sport", ">u2"), ("dport", ">u2"),
            ("sequence", ">u4"), ("answer", ">u4"), ("offset", "u1"), ("flags", "u1"), ("rest", "V6"),
        ]
    )  # fmt: skip
    rows = np.zeros((len(order), n), dtype=packet)
    for place, (out, flags, carried) in enumerate(order):
        one = rows[place]
        at_us = records.start_ms * 1000 + ((records.end_ms - records.start_ms) * 1000 * times[place]).astype(np.int64)
        one["s"], one["us"] = np.divmod(at_us, 10**6)
        ends = (records.source, records.target), (records.source_port, np.full(n, _PORT))
        (one["source"], one["target"]), (one["sport"], one["dport"]) = (each if out else each[::-1] for each in ends)
        one["flags"], one["length"] = flags, 40 + carried
        one["long"], one["kept"] = 54 + carried, 54
    rows["kind"], rows["version"], rows["ttl"], rows["protocol"], rows["offset"] = 0x0800, 0x45, 64, 6, 0x50
    flat = rows.reshape(-1)
    flat = flat[np.argsort(flat["s"].astype(np.int64) * 10**6 + flat["us"], kind="stable")]
    head = np.array([0xA1B2C3D4], dtype="<u4").tobytes() + np.array([2, 4], dtype="<u2").tobytes()
    path.write_bytes(head + np.array([0, 0, 54, 1], dtype="<u4").tobytes() + flat.tobytes())
