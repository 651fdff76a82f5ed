"""`measure` on a day of made-up records, the whole command, against the plain way in three table libraries.

Each is run with all processors, and timed from its start to the written file.
"""

import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from time import perf_counter

import pyarrow as arrow
import pyarrow.csv as comma
import pyarrow.parquet as parquet

from bench.records import Made, made, write_capture, write_estate, write_ipfix, write_v5

_HERE = Path(__file__).resolve().parent
_YARDSTICKS = _HERE.parent / "build" / "yardsticks" / "bin" / "python"
_WAYS = ("duckdb", "polars", "pandas")
_RECORDS = int(os.environ.get("RECORDS", "4000000"))
_PAIRS = ((7, 10), (577, 577))


def measure() -> Iterator[str]:
    """Records a second, and how many times as fast that is as the quickest plain way."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        yield from _tables(folder, _RECORDS, *_PAIRS[0])
        yield from _others(folder, _RECORDS, *_PAIRS[0])
    with tempfile.TemporaryDirectory() as name:
        folder, number = Path(name), _RECORDS // 2
        _write_tables(folder, made(number, *_PAIRS[1]), *_PAIRS[1])
        took = _ours(folder, "records.parquet")
        yield f"{number:,} records of 330,000 pairs, Parquet: {took:.1f} s, {took / number * 1e6:.1f} us a record"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        _write_tables(folder, made(1000, *_PAIRS[0]), *_PAIRS[0])
        yield f"1,000 records: {_ours(folder, 'records.csv'):.2f} s"


def _tables(folder: Path, number: int, subnets: int, destinations: int) -> Iterator[str]:
    _write_tables(folder, made(number, subnets, destinations), subnets, destinations)
    for file, wanted in (("records.parquet", 4), ("records.csv", 3)):
        took = _ours(folder, file)
        plain = {way: _plain(folder, way, file, subnets, destinations) for way in _WAYS if _YARDSTICKS.exists()}
        told = (
            ", ".join(f"{way} {seconds:.1f} s" for way, seconds in plain.items())
            or "run `make bench` for the plain ways"
        )
        best = min(plain.values(), default=0.0) / took
        yield (
            f"{number:,} records, {file.rpartition('.')[2]}: {took:.1f} s ({told}): {best:.1f} times the quickest "
            f"({wanted} asked for)"
        )
        one, two = (_ours(folder, file, "--workers", workers) for workers in ("1", "2"))
        yield f"  two processes on the one file: {two:.1f} s, one: {one:.1f} s: {one / two:.2f} times (1.8 asked for)"


def _others(folder: Path, number: int, subnets: int, destinations: int) -> Iterator[str]:
    records = made(number, subnets, destinations)
    write_ipfix(folder / "ipfix", records)
    write_v5(folder / "netflow-5", records)
    packets = made(number // 6, subnets, destinations)
    write_capture(folder / "capture", packets)
    nothing = _ours(folder, "nothing.csv", "--workers", "1")
    for file, some, what in (("ipfix", number, "records"), ("netflow-5", number, "records"),
                             ("capture", 6 * packets.start_ms.size, "packets")):  # fmt: skip
        took = _ours(folder, file, "--workers", "1") - nothing
        yield f"{file}: {some / took / 1e6:.2f} million {what} a second by one process, beyond its start"


def _write_tables(folder: Path, records: Made, subnets: int, destinations: int) -> None:
    n = records.start_ms.size
    columns = {
        "start": records.start_ms, "end": records.end_ms, "source": records.texts(records.source),
        "target": records.texts(records.target), "source_port": records.source_port, "target_port": [443] * n,
        "protocol": ["tcp"] * n, "bytes_out": records.octets, "bytes_in": 3 * records.octets,
    }  # fmt: skip
    table = arrow.table(columns)
    parquet.write_table(table, folder / "records.parquet")
    comma.write_csv(table, folder / "records.csv")
    comma.write_csv(table[:50], folder / "nothing.csv")
    write_estate(folder, subnets, destinations)


def _ours(folder: Path, file: str, *words: str) -> float:
    program = Path(sys.executable).parent / "fenrask"
    ran = [str(program), "measure", str(folder / "estate.yaml"), str(folder / file), *words]
    return _timed([*ran, "--save", str(folder / "load.json"), "--force"])


def _plain(folder: Path, way: str, file: str, subnets: int, destinations: int) -> float:
    words = [way, str(folder / file), str(subnets), str(destinations), str(folder / "plain.json")]
    return _timed([str(_YARDSTICKS), str(_HERE / "yardsticks.py"), *words])


def _timed(words: list[str]) -> float:
    """Wall time of a process, s."""
    before = perf_counter()
    subprocess.run(words, check=True, capture_output=True)
    return perf_counter() - before
