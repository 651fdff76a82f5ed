"""A draft estate from files of what exists: inventories, routes, translation, filters, connection records, a bill.

`read_files` takes what files tell, `drafted` puts an estate and a catalogue together of it, each value with where it is
from, and lists what nobody told. Loads are measured in a second reading of the records (`loads_of`), when there is an
estate to match them with; `put_flows` refers to them.
"""

from fenrask.records.existing.assembling import LEAST_SHARE, drafted, loads_of, put_flows
from fenrask.records.existing.draft import ASSUMED, CATALOGUE, Assumed, Draft
from fenrask.records.existing.facts import Fact, Steps
from fenrask.records.existing.files import COLUMNS, Files, read_files

__all__ = [
    "ASSUMED",
    "CATALOGUE",
    "COLUMNS",
    "LEAST_SHARE",
    "Assumed",
    "Draft",
    "Fact",
    "Files",
    "Steps",
    "drafted",
    "loads_of",
    "put_flows",
    "read_files",
]
