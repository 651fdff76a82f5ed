"""Files beside the estate: sections as CSV, routing table dumps."""

import struct
from typing import Any

from fenrask.errors import UnusableInput
from fenrask.estate import Described, exits_of, read_estate
from fenrask.estate.mrt import mrt_prefixes
from tests.support import CATALOGUE, ESTATE, InFolder, merged

SUBNETS = """\
name,network,zone,prefix,routes,tags.cost_centre
app,net,a,10.0.1.0/24,private,sales
edge,net,a,10.0.9.0/28,public,
"""


class Tables(InFolder):
    def read(self, subnets: str, patch: Any = None) -> Described:
        self.write("catalogue.yaml", CATALOGUE)
        self.write("subnets.csv", subnets)
        self.write("workloads.csv", "name,subnets[],hosts\r\nwork,app edge,10\r\n")
        named = {"subnets_csv": "subnets.csv", "workloads_csv": "workloads.csv", "subnets": None, "workloads": None}
        return read_estate(self.write("estate.yaml", merged(merged(ESTATE, named), patch or {})))

    def test_rows_are_entries(self) -> None:
        described = self.read(SUBNETS)
        self.assertEqual([*described.estate.subnets], ["app", "edge"])
        self.assertEqual(described.estate.subnets["app"].tags, {"cost_centre": "sales"})
        self.assertEqual(described.estate.subnets["edge"].tags, {})
        self.assertEqual(described.estate.workloads["work"].subnets, ("app", "edge"))
        place = described.place("subnets", "edge", "prefix")
        self.assertEqual((place.line, place.column), (3, 4))

    def test_route_tables_and_rhythms_have_shapes_of_their_own(self) -> None:
        routes = "name,to,exit,origin\nprivate,0.0.0.0/0,gate,\nprivate,partner,gate,\npublic,0.0.0.0/0,door,\n"
        self.write("routes.csv", routes + "private,10.9.0.0/16,gate,learned\nprivate,10.9.0.0/16,door,static\n")
        self.write("profiles.csv", "name" + "," * 24 + "\nday," + ",".join(["1.5"] * 24) + "\n")
        named = {"route_tables": None, "route_tables_csv": "routes.csv", "profiles_csv": "profiles.csv"}
        estate = self.read(SUBNETS, named).estate
        self.assertEqual(estate.route_tables["public"], {"0.0.0.0/0": "door"})
        self.assertEqual(exits_of(estate.route_tables["private"]["10.9.0.0/16"]), ("gate", "door"))
        self.assertEqual(estate.profiles["day"], (1.5,) * 24)

    def test_a_section_may_lie_in_both(self) -> None:
        more = {"subnets": {"more": {"network": "net", "prefix": "10.0.3.0/24"}}}
        self.assertEqual([*self.read(SUBNETS, more).estate.subnets], ["app", "edge", "more"])

    def test_mistakes_are_told_with_line_and_column(self) -> None:
        cases: tuple[tuple[str, Any, str], ...] = (
            (SUBNETS.replace("10.0.9.0/28", "10.0.9.1/28"), None, "subnets.csv:3:4"),
            (SUBNETS.replace("edge,net", "edge,nett"), None, "subnets.csv:3:2"),
            (SUBNETS.replace("zone", "zoen"), None, "subnets.csv:2:3"),
            (SUBNETS + "app,net,a,10.0.4.0/24,private,\n", None, "'app' twice"),
            (SUBNETS + "x,net,a,10.0.4.0/24,private,,,\n", None, "8 cells"),
            (SUBNETS.replace("name,", "subnet,"), None, "subnets.csv:1:1"),
            (SUBNETS, {"subnets": {"app": {}}}, "each name once"),
            (SUBNETS, {"subnets_csv": "../subnets.csv"}, "inside the estate's folder"),
            (SUBNETS, {"subnets_csv": "none.csv"}, "no such file"),
        )
        for text, patch, told in cases:
            with self.subTest(told=told), self.assertRaises(UnusableInput) as caught:
                self.read(text, patch)
            self.assertIn(told, str(caught.exception))


def record(kind: int, subtype: int, body: bytes) -> bytes:
    return struct.pack("!IHHI", 0, kind, subtype, len(body)) + body


class Dumps(InFolder):
    # By RFC 6396, sections 4.2 and 4.3: an index of peers, IPv4 and IPv6 routes, and the older format.
    CONTENT = (
        record(13, 1, bytes(8))
        + record(13, 2, struct.pack("!IB", 0, 16) + bytes([172, 20]) + struct.pack("!H", 0))
        + record(13, 2, struct.pack("!IB", 1, 23) + bytes([10, 9, 2]) + struct.pack("!H", 0))
        + record(13, 4, struct.pack("!IB", 2, 32) + bytes([0x20, 0x01, 0x0D, 0xB8]) + struct.pack("!H", 0))
        + record(12, 1, struct.pack("!HH", 0, 0) + bytes([192, 0, 2, 0, 24]) + bytes(13))
        + record(13, 2, struct.pack("!IB", 3, 16) + bytes([172, 20]) + struct.pack("!H", 0))
    )
    PREFIXES = ("172.20.0.0/16", "10.9.2.0/23", "2001:db8::/32", "192.0.2.0/24")

    def test_prefixes_of_a_dump(self) -> None:
        self.assertEqual(tuple(map(str, mrt_prefixes(self.CONTENT))), self.PREFIXES)

    def test_a_dump_cut_short_is_told(self) -> None:
        for cut in (5, len(self.CONTENT) - 1):
            with self.assertRaisesRegex(ValueError, "cut short"):
                mrt_prefixes(self.CONTENT[:cut])

    def test_a_line_learns_what_the_dump_holds(self) -> None:
        (self.folder / "pilots.mrt").write_bytes(self.CONTENT)
        line = {"kind": "circuit", "network": "net", "received_mrt": "pilots.mrt", "received": ["172.21.0.0/16"]}
        described = self.estate({"exits": {"line": line}})
        learned = [str(one) for one in described.estate.exits["line"].learned]
        self.assertEqual(learned, ["172.21.0.0/16", *self.PREFIXES])
