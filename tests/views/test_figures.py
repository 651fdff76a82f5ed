"""Figures: what is drawn of estates of several shapes, read back from the SVG's own words."""

import re
import unittest
from typing import Any

from fenrask.capacity import capacity
from fenrask.demand import demand
from fenrask.errors import UnusableInput
from fenrask.evaluation import broken_needs
from fenrask.routing import Verdict, flow_paths, trace_from
from fenrask.views.figures.blocking import draw_blocking
from fenrask.views.figures.heat import draw_heat
from fenrask.views.figures.paths import _Line, _with_ends_together, draw_paths, draw_trace
from fenrask.views.figures.ports import draw_ports
from tests.support import InFolder


def words(svg: bytes) -> str:
    """The comments that stand before each text in the SVG."""
    return "\n".join(re.findall(r"<!-- (.*?) -->", svg.decode(), re.DOTALL))


class Figures(InFolder):
    def ports(self, patch: Any, suffix: str = ".svg") -> bytes:
        return draw_ports(capacity(demand(flow_paths(self.estate(patch)))), suffix)

    def paths(self, patch: Any) -> str:
        paths = flow_paths(self.estate(patch))
        broken = [one for flow in paths.described.estate.flows for one in broken_needs(paths, flow)]
        return words(draw_paths(paths, broken, ".svg"))

    def test_ports_tell_what_is_short(self) -> None:
        calm, short = words(self.ports({})), words(self.ports({"workloads": {"work": {"hosts": 40}}}))
        self.assertIn("gate: port headroom 38.0%", calm)
        self.assertIn("1,000 ports (1 x 1,000)", calm)
        self.assertNotIn("no port left", calm)
        self.assertIn("gate: needs 3 addresses, has 1", short)
        self.assertIn("no port left", short)

    def test_ports_of_an_estate_that_holds_nothing(self) -> None:
        self.assertIn("No exit that translates has a connection", words(self.ports({"flows": {"talk": None}})))

    def test_many_exits_are_counted_not_drawn(self) -> None:
        exits = {
            f"gate-{n}": {"kind": "translation-gateway", "offer": "gate", "network": "net", "addresses": 1}
            for n in range(8)
        }
        subnets = {f"app-{n}": {"network": "net", "prefix": f"10.0.{20 + n}.0/24", "routes": f"t{n}"} for n in range(8)}
        tables = {f"t{n}": {"0.0.0.0/0": f"gate-{n}"} for n in range(8)}
        patch = {
            "exits": exits,
            "subnets": subnets,
            "route_tables": tables,
            "workloads": {"work": {"subnets": [*subnets]}},
        }
        self.assertIn("of the others: gate-1 7.8%, gate-2 7.8%", words(self.ports(patch)))

    def test_blocking_is_shaded_where_it_exceeds_the_target(self) -> None:
        self.assertNotIn("no free port (shaded)", words(self.ports({})))
        self.assertIn("no free port (shaded)", words(self.ports({"workloads": {"work": {"hosts": 40}}})))

    def test_blocking_by_number_of_addresses(self) -> None:
        sized = capacity(demand(flow_paths(self.estate({"workloads": {"work": {"hosts": 40}}}))))
        told = words(draw_blocking(sized, ".svg"))
        for word in ("gate: needs 3, has 1", "target 0.0001", "public addresses (ringed: as many as the exit has)"):
            self.assertIn(word, told)
        nothing = capacity(demand(flow_paths(self.estate({"flows": {"talk": None}}))))
        self.assertIn("No exit that translates", words(draw_blocking(nothing, ".svg")))

    def test_the_heat_map_tells_the_most_in_each_hour(self) -> None:
        patch = {"flows": {"talk": {"profile": "day"}}, "profiles": {"day": [0.5] * 23 + [8.0]}}
        told = words(draw_heat(capacity(demand(flow_paths(self.estate(patch)))), ".svg"))
        for word in ("gate", "4.96k", "310", "23", "hour of the day"):
            self.assertIn(word, told)
        patch["profiles"] = {"day": [1.0] * 167 + [2.0]}
        week = words(draw_heat(capacity(demand(flow_paths(self.estate(patch)))), ".svg"))
        self.assertIn("day 7", week)
        self.assertIn(
            "No exit has a connection",
            words(draw_heat(capacity(demand(flow_paths(self.estate({"flows": {"talk": None}})))), ".svg")),
        )

    def test_the_same_input_draws_the_same_file(self) -> None:
        self.assertEqual(self.ports({}, ".png"), self.ports({}, ".png"))

    def test_an_unknown_file_ending_is_told(self) -> None:
        for suffix in (".gif", ""):
            with self.assertRaisesRegex(UnusableInput, ".png"):
                self.ports({}, suffix)

    def test_paths_name_everything_and_cross_what_is_lost(self) -> None:
        told = self.paths({})
        for word in (
            "Test: the path of every flow",
            "app",
            "gate",
            "translation-gateway",
            "door",
            "direct-internet",
            "partner",
        ):
            self.assertIn(word, told)
        self.assertNotIn("black hole", told)
        lost = self.paths({"exits": {"gate": None}})
        self.assertIn("talk: black hole", lost)
        self.assertIn("does not exist", lost)

    def test_needs_that_are_not_met_are_told_at_the_destination(self) -> None:
        self.assertIn(
            "not off_internet: talk", self.paths({"destinations": {"partner": {"needs": {"off_internet": True}}}})
        )

    def test_a_large_estate_folds_like_subnets_and_draws_those_that_send_most(self) -> None:
        subnets = {f"s{n}": {"network": "net", "prefix": f"10.0.{20 + n}.0/24", "routes": "private"} for n in range(40)}
        folded = {"subnets": subnets, "workloads": {"work": {"subnets": [*subnets]}}}
        self.assertIn("and 39 more subnets", self.paths(folded))
        # Each in a zone of its own: none is like another.
        apart = {name: {**one, "zone": f"z{number}"} for number, (name, one) in enumerate(subnets.items())}
        self.assertIn("18 more groups of subnets send less", self.paths({**folded, "subnets": apart}))

    def test_one_path_is_drawn_alone(self) -> None:
        described = self.estate()
        told = words(
            draw_trace(described, "partner", [one for one, _ in trace_from(described, "app", "partner")], ".svg")
        )
        self.assertIn("app to partner", told)
        self.assertIn("gate", told)


class ManyDestinations(unittest.TestCase):
    def test_those_that_the_same_paths_lead_to_are_one_box_and_nothing_is_lost(self) -> None:
        both = ("gate", "door")
        lines = [_Line("app", both, f"place-{n}", Verdict.ARRIVES, False, (f"flow-{n}",), 1.0 + n) for n in range(60)]
        lines += [_Line("edge", ("door",), "place-7", Verdict.ARRIVES, False, ("other",), 2.0)]
        self.assertEqual(_with_ends_together(lines[:20]), (lines[:20], {}))
        together, ends = _with_ends_together(lines)
        self.assertEqual(sorted(len(names) for names in ends.values()), [1, 59])
        self.assertEqual(ends["place-59"][0], "place-59")
        self.assertEqual(sum(line.volume for line in together), sum(line.volume for line in lines))
        self.assertEqual(sum(len(line.flows) for line in together), 61)
        self.assertEqual(len(together), 3)
