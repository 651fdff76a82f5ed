"""Writes the table of `fenrask.teletraffic.retrial_queue`: what a back-off makes of the odds to be refused.

Run from the repository's folder, for some minutes:
`python docs/retrials.py > src/fenrask/teletraffic/retrial_queue.json`. A test works some of its values out again.
"""

import json
from concurrent.futures import ProcessPoolExecutor
from itertools import product

import numpy as np

from fenrask.teletraffic import erlang_b
from fenrask.teletraffic.backoff import attempts
from fenrask.teletraffic.fixed_points import where_equal
from fenrask.teletraffic.retrial_queue import GRID, retrial_queue


def log_odds(cell: tuple[float, float, float, float]) -> list[float]:
    """By how much the logarithms of the odds of first and later tries differ from independent tries'."""
    retries, servers, hold_s, excess = cell
    load = servers * float(np.exp(excess / np.sqrt(servers)))
    alone = where_equal(lambda share: np.asarray(erlang_b(servers, load * attempts(share, retries))), (1,))[0]
    found = retrial_queue(load, int(servers), hold_s, int(retries))
    return [round(float(np.log(share / (1 - share) / (alone / (1 - alone)))), 3) for share in found]


if __name__ == "__main__":
    cells = list(product(GRID["retries"], GRID["servers"], GRID["hold_s"], GRID["excess"]))
    with ProcessPoolExecutor() as executor:
        values = list(executor.map(log_odds, cells, chunksize=17))
    each = len(GRID["excess"])
    rows = [json.dumps(values[at : at + each], separators=(",", ":")) for at in range(0, len(values), each)]
    print('{"log_odds":[\n' + ",\n".join(rows) + "\n]}")
