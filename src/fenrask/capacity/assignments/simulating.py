"""A cut pool of ports as a setting of the simulation: alike for all assignments whose ports are shared."""

from fenrask.capacity.assignments.contract import Division, Replay, Stream
from fenrask.estate import Ports
from fenrask.teletraffic.simulation import Calls, Hashed, Hosts, Pool, Searched, Setting

__all__ = ["pooled"]


def pooled(stream: Stream, calls: Calls, division: Division, ports: Ports) -> Replay:
    """One of the even cells of a pool where these are independent; else all of them, and all that hosts are tied to."""
    all_calls, calls = calls, calls.scaled(1 / division.even_cells)
    # Connections that are open all day leave so many ports fewer to the others.
    free = division.free(stream.load.persistent)
    rounds, late, chance = _search(ports)
    setting: Setting
    if stream.is_capped or stream.retries or (calls.jobs and division.tied_cells == 1 and not rounds):
        most = max(1, round(stream.open_at_most)) if stream.is_capped else None
        hosts = max(1, round((stream.sources or 0.0) / stream.open_at_most if most else stream.hosts))
        cells = division.tied_cells * division.even_cells
        what = f"{cells} x {division.ports:,} ports" if cells > 1 else f"{division.ports:,} ports"
        if most:
            what = f"{hosts} hosts of {most} open connections each, {what}"
        words = {
            "how ports are searched": bool(rounds) or ports.ended_reuse is not None,
            "retries at once": calls.retry_share > 0,
        }
        left_out = tuple(f"{one}, where hosts have limits or retries" for one, holds in words.items() if holds)
        setting = Hosts(
            all_calls,
            division.ports,
            hosts,
            most,
            stream.retries,
            places=division.tied_cells,
            nodes=division.even_cells,
            open_always=stream.load.persistent,
        )
        return Replay(setting, what, division, left_out)
    if division.tied_cells > 1:
        hosts = max(1, round(stream.hosts))
        # A host's connections that are always open are at the place that the hash ties it to.
        each = stream.load.persistent / division.even_cells / hosts
        setting = Hashed(calls, division.ports, division.tied_cells, hosts, rounds, late, chance, each)
        what = f"{hosts} hosts hashed to {division.tied_cells} x {division.ports:,} ports"
    elif rounds:
        setting = Searched(calls, free, rounds, late, chance)
        what = f"{division.ports:,} ports, tried {' + '.join(map(str, rounds))}"
    elif division.even_cells > 1 and stream.load.persistent:
        # A hash sends each connection that is always open to a node of its own: so many are at this one by chance.
        setting = Pool(calls, division.ports, open_throughout=(round(stream.load.persistent), 1 / division.even_cells))
        what = f"{division.ports:,} ports"
    else:
        setting = Pool(calls, free)
        what = f"{division.ports:,} ports"
    if division.even_cells > 1:
        what += f" of one of {division.even_cells} nodes"
    words = {
        "that hosts run out of ports of their own": stream.own_ports[0] > 0,
        "that jobs start at one time": bool(calls.jobs),
    }
    own = [one for one, holds in words.items() if holds]
    plain = not rounds or calls.batch == 1
    not_counted = own if plain else [*own, "bursts where a search is limited"]
    return Replay(setting, what, division, tuple(not_counted), part=division.even_cells)


def _search(ports: Ports) -> tuple[tuple[int, ...], int, float]:
    reuse = ports.ended_reuse
    if reuse is None:
        return ports.rounds, 0, 0.0
    # Where only reuse is told, the search goes through all.
    return ports.rounds or (ports.per_address,), reuse.last_tries, reuse.chance
