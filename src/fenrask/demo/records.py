"""A day of the sample's connection records, seeded: what an exporter would have written of some of its flows."""

import gzip
import io

import numpy as np

from fenrask.demand import new_per_s
from fenrask.estate import Described, DurationLaw

__all__ = ["RECORDED", "day_of_records"]

RECORDED = {"images": 1.0, "rosters": 2.6}
"""The flows that are recorded, and how many times their stated load they really have."""

_MIDNIGHT = 1_795_046_400
"""A Thursday in November 2026, UTC."""
_SEED = 20_261_119


def day_of_records(described: Described) -> bytes:
    """A CSV, packed: time, ends, ports, protocol, volumes and TCP flags of every connection of these flows in a day."""
    dice = np.random.default_rng(_SEED)
    estate, rows = described.estate, list[tuple[float, str]]()
    for name, times in RECORDED.items():
        flow = estate.flows[name]
        workload, to = estate.workloads[flow.from_], estate.destinations[flow.to]
        profile = np.resize(np.array(estate.profiles.get(flow.profile or "", (1.0,))), 24)
        rates = np.repeat(profile, 3600) * new_per_s(flow, workload.hosts) * times
        numbers = dice.poisson(rates)
        starts = np.repeat(np.arange(86_400), numbers) + dice.random(int(numbers.sum()))
        lasts = _durations(flow.duration_s, starts.size, dice)
        subnets = dice.integers(0, len(workload.subnets), starts.size)
        hosts, ports = dice.integers(10, 10 + workload.hosts, starts.size), dice.integers(20_000, 60_000, starts.size)
        target, out, back = to.prefixes[0][0], flow.out_kib_per_connection or 1, flow.in_kib_per_connection or 1
        prefixes = [estate.subnets[one].prefix for one in workload.subnets]
        for start, last, subnet, host, port in zip(starts, lasts, subnets, hosts, ports, strict=True):
            at = _MIDNIGHT + float(start)
            ends = f"{prefixes[subnet][int(host)]},{target},{port},{to.port or 443}"
            volumes = f"{round(out * 1024)},{round(back * 1024)}"
            rows.append((at, f"{at:.3f},{at + float(last):.3f},{ends},{to.protocol},{volumes},27\n"))
    rows.sort()
    text = "start,end,source,target,source_port,target_port,protocol,bytes_out,bytes_in,flags\n"
    buffer = io.BytesIO()
    with gzip.GzipFile(fileobj=buffer, mode="wb", mtime=0) as packed:
        packed.write((text + "".join(row for _, row in rows)).encode())
    return buffer.getvalue()


def _durations(stated: object, n: int, dice: np.random.Generator) -> np.ndarray:
    if isinstance(stated, DurationLaw):
        return dice.exponential(stated.mean_s, n)
    return dice.exponential(float(str(stated)), n)
