"""A day of the sample's connection records, seeded: what an exporter would have written of some of its flows."""

import gzip
import io

import numpy as np

from fenrask.demand import new_per_s
from fenrask.estate import Described, DurationLaw

__all__ = ["RECORDED", "day_of_records"]

RECORDED = {"images": 1.0, "rosters": 2.6}
"""The flows that are recorded, and how many times their stated load they really have."""

_ANSWERED = {"images": 9, "rosters": 2}
"""Which address of its first prefix the destination's name answers, as in `names.zone`."""
_MIDNIGHT = 1_795_046_400
"""A Thursday in November 2026, UTC."""
_HOSTS = 250
"""Addresses of a subnet from which hosts may send."""
_SEED = 20_261_119


def day_of_records(described: Described) -> bytes:
    """A CSV, packed: time, ends, ports, protocol, volumes and TCP flags of every connection of these flows in a day."""
    import pyarrow as arrow
    import pyarrow.csv as comma

    dice = np.random.default_rng(_SEED)
    estate, parts = described.estate, []
    for name, times in RECORDED.items():
        flow = estate.flows[name]
        workload, to = estate.workloads[flow.from_], estate.destinations[flow.to]
        profile = np.resize(np.array(estate.profiles.get(flow.profile or "", (1.0,))), 24)
        rates = np.repeat(profile, 3600) * new_per_s(flow, workload.hosts) * times
        numbers = dice.poisson(rates)
        starts = _MIDNIGHT + np.repeat(np.arange(86_400), numbers) + dice.random(int(numbers.sum()))
        lasts = _durations(flow.duration_s, starts.size, dice)
        subnets = dice.integers(0, len(workload.subnets), starts.size)
        hosts, ports = dice.integers(10, 10 + workload.hosts, starts.size), dice.integers(20_000, 60_000, starts.size)
        out, back = flow.out_kib_per_connection or 1, flow.in_kib_per_connection or 1
        places = [f"{estate.subnets[name].prefix[int(host)]}" for name in workload.subnets for host in range(_HOSTS)]
        chosen = arrow.array(subnets * _HOSTS + hosts)
        n = starts.size
        parts.append(
            arrow.table(
                {
                    "start": np.round(starts, 3),
                    "end": np.round(starts + lasts, 3),
                    "source": arrow.array(places).take(chosen),
                    "target": arrow.repeat(str(to.prefixes[0][_ANSWERED[name]]), n),
                    "source_port": ports,
                    "target_port": np.full(n, to.port or 443),
                    "protocol": arrow.repeat(to.protocol, n),
                    "bytes_out": np.full(n, round(out * 1024)),
                    "bytes_in": np.full(n, round(back * 1024)),
                    "flags": np.full(n, 27),
                }
            )
        )
    whole = arrow.concat_tables(parts).sort_by("start")
    text, buffer = io.BytesIO(), io.BytesIO()
    comma.write_csv(whole, text)
    with gzip.GzipFile(fileobj=buffer, mode="wb", mtime=0) as packed:
        packed.write(text.getvalue().replace(b'"', b""))
    return buffer.getvalue()


def _durations(stated: object, n: int, dice: np.random.Generator) -> np.ndarray:
    if isinstance(stated, DurationLaw):
        return dice.exponential(stated.mean_s, n)
    return dice.exponential(float(str(stated)), n)
