"""The plain way to a load: what `measure` says of each pair, by one table library; run by an interpreter that has it.

    python yardsticks.py pandas|polars|duckdb RECORDS SUBNETS DESTINATIONS RESULT

Connections, bytes, durations with their quantiles, connections by hour, the mean and the most that are open, and
addresses, of each subnet and destination, written as JSON. Subnets and destinations are /24s, as `bench.records` has
them: an address without its last part tells which.
"""

import json
import sys
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

_QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95, 0.99)
_DAY_MS, _HOUR_MS, _PORT = 86_400_000, 3_600_000, 443
Names = Mapping[str, str]


def _pandas(file: str, subnets: Names, destinations: Names) -> Any:
    import pandas

    table = pandas.read_csv(file) if file.endswith("csv") else pandas.read_parquet(file)
    table = table[table.target_port == _PORT].copy()
    for column, of, names in (("source", "subnet", subnets), ("target", "destination", destinations)):
        table[of] = table[column].str.rsplit(".", n=1).str[0].map(names)
    table = table.dropna(subset=["subnet", "destination"])
    table["lasted"], pair = table.end - table.start, ["subnet", "destination"]
    groups = table.groupby(pair)
    whole = groups.agg(
        connections=("lasted", "size"), out=("bytes_out", "sum"), back=("bytes_in", "sum"), lasted=("lasted", "mean"),
        addresses=("target", "nunique"),
    )  # fmt: skip
    hours = table.groupby([*pair, table.start // _HOUR_MS % 24]).size()
    moves = pandas.concat(
        [table[pair].assign(at=column, move=move) for column, move in ((table.start, 1), (table.end, -1))]
    )
    moves = moves.groupby([*pair, "at"]).move.sum().reset_index()
    moves["opened"] = moves.groupby(pair).move.cumsum()
    moves["area"] = moves.opened * (moves.groupby(pair)["at"].shift(-1) - moves["at"])
    opened = moves.groupby(pair).agg(most=("opened", "max"), mean=("area", lambda one: one.sum() / _DAY_MS))
    quantiles = groups.lasted.quantile(_QUANTILES).unstack()
    return [whole.join(quantiles).join(opened).reset_index().values.tolist(), hours.reset_index().values.tolist()]


def _polars(file: str, subnets: Names, destinations: Names) -> Any:
    import polars

    column, pair = polars.col, ("subnet", "destination")
    table = polars.scan_csv(file) if file.endswith("csv") else polars.scan_parquet(file)
    near = polars.LazyFrame({"near": [*subnets], "subnet": [*subnets.values()]})
    far = polars.LazyFrame({"far": [*destinations], "destination": [*destinations.values()]})
    whole = (
        table.filter(column("target_port") == _PORT)
        .with_columns(near=column("source").str.replace(r"\.\d+$", ""), far=column("target").str.replace(r"\.\d+$", ""))
        .join(near, on="near")
        .join(far, on="far")
        .with_columns(lasted=column("end") - column("start"), hour=column("start") // _HOUR_MS % 24)
        .select(*pair, "start", "end", "lasted", "hour", "bytes_out", "bytes_in", "target")
        .collect()
    )
    sums = whole.group_by(pair).agg(
        polars.len(), column("bytes_out").sum(), column("bytes_in").sum(), column("lasted").mean(),
        column("target").n_unique(), *(column("lasted").quantile(one).alias(f"{one}") for one in _QUANTILES),
    )  # fmt: skip
    moves = polars.concat(
        [
            whole.select(*pair, column(name).alias("at"), polars.lit(move).alias("move"))
            for name, move in (("start", 1), ("end", -1))
        ]
    )
    moves = moves.group_by(*pair, "at").agg(column("move").sum()).sort(*pair, "at")
    moves = moves.with_columns(opened=column("move").cum_sum().over(pair))
    moves = moves.with_columns(for_ms=column("at").shift(-1).over(pair) - column("at"))
    mean = (column("opened") * column("for_ms")).sum() / _DAY_MS
    opened = moves.group_by(pair).agg(column("opened").max().alias("most"), mean.alias("mean"))
    hours = whole.group_by(*pair, "hour").len()
    return [sums.join(opened, on=pair).sort(pair).to_dicts(), hours.to_dicts()]


def _duckdb(file: str, subnets: Names, destinations: Names) -> Any:
    import duckdb

    base = duckdb.connect()
    for name, names in (("near", subnets), ("far", destinations)):
        base.execute(f"create table {name} (net varchar, name varchar)")
        base.execute(f"insert into {name} select unnest($1), unnest($2)", [[*names], [*names.values()]])
    read = f"read_csv('{file}')" if file.endswith("csv") else f"read_parquet('{file}')"
    base.execute(
        f"""create table whole as select near.name as subnet, far.name as destination, start as began,
        "end" as ended, "end" - start as lasted, target, bytes_out, bytes_in from {read} one
        join near on near.net = regexp_replace(one.source, '\\.\\d+$', '')
        join far on far.net = regexp_replace(one.target, '\\.\\d+$', '') where target_port = {_PORT}"""
    )
    quantiles = ", ".join(f"quantile_cont(lasted, {one})" for one in _QUANTILES)
    sums = base.execute(
        f"""with sums as (select subnet, destination, count(*), sum(bytes_out), sum(bytes_in), avg(lasted),
        count(distinct target), {quantiles} from whole group by all),
        moves as (select subnet, destination, instant, sum(move) move from (select subnet, destination, began instant,
        1 move from whole union all select subnet, destination, ended, -1 from whole) group by all),
        steps as (select subnet, destination, sum(move) over w opened, lead(instant) over w - instant for_ms from moves
        window w as (partition by subnet, destination order by instant)),
        opened as (select subnet, destination, max(opened), sum(opened * for_ms) / {_DAY_MS} from steps group by all)
        select * from sums join opened using (subnet, destination) order by subnet, destination"""
    ).fetchall()
    of_hour = f"select subnet, destination, began // {_HOUR_MS} % 24, count(*) from whole group by all"
    return [sums, base.execute(of_hour).fetchall()]


_WAYS: dict[str, Callable[[str, Names, Names], Any]] = {"pandas": _pandas, "polars": _polars, "duckdb": _duckdb}


def main() -> None:
    """Read, work it out, write the result."""
    way, file, subnets, destinations, result = sys.argv[1:]
    near = {f"10.{one >> 8}.{one & 255}": f"s{one}" for one in range(int(subnets))}
    far = {f"198.{18 + (one >> 8)}.{one & 255}": f"d{one}" for one in range(int(destinations))}
    Path(result).write_text(json.dumps(_WAYS[way](file, near, far), default=float), encoding="utf-8")


main()
