"""Documents cannot lie: every command shown is run, its output compared; the worked example recomputed."""

import importlib.util
import math
import shutil
import subprocess
import unittest
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any

from tests.support import InFolder
from tests.teletraffic.test_erlang import recursion

ROOT = Path(__file__).resolve().parent.parent.parent


def _script(name: str) -> Any:
    spec = importlib.util.spec_from_file_location(name, ROOT / "docs" / f"{name}.py")
    assert spec and spec.loader
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


class Documents(unittest.TestCase):
    def test_every_command_shown_prints_what_is_shown(self) -> None:
        refresh = _script("refresh")
        for page in (*refresh.PAGES, *refresh.LISTS):
            with self.subTest(page):
                self.assertEqual((ROOT / page).read_text(encoding="utf-8"), refresh.refreshed(page))

    def test_the_reference_is_that_of_the_models(self) -> None:
        pages = _script("reference")
        for page, written in (("files.md", pages.reference()), ("results.md", pages.results())):
            self.assertEqual((ROOT / "docs" / page).read_text(encoding="utf-8"), written)

    def test_the_manual_page_is_that_of_the_help_and_is_sound_roff(self) -> None:
        page = ROOT / "docs" / "fenrask.1"
        self.assertEqual(page.read_text(encoding="utf-8"), _script("man").manual())
        if shutil.which("groff"):
            words = ["groff", "-man", "-ww", "-Tutf8", str(page)]
            said = subprocess.run(words, capture_output=True, text=True, check=True).stderr
            self.assertEqual(said, "")

    def test_every_linked_file_exists(self) -> None:
        for page in ("README.md", "docs/worked-example.md"):
            text = (ROOT / page).read_text(encoding="utf-8")
            for target in [part.split(")")[0] for part in text.split("](")[1:]]:
                if not target.startswith(("http", "#")):
                    with self.subTest(page=page, target=target):
                        self.assertTrue(((ROOT / page).parent / target).exists())


class ByHand(InFolder):
    """docs/by-hand.md: what the sheet says is worked out here, what is right by the engine."""

    def test_every_figure(self) -> None:
        self.sample()
        text = (ROOT / "docs" / "by-hand.md").read_text(encoding="utf-8")
        estate = "d/estate.yaml"
        load = self.json("demand", estate, status=1)
        [pay] = [one for one in load["flows"] if (one["exit"], one["flow"]) == ("gate-a", "pay")]
        ports = {one["exit"]: one for one in self.json("capacity", estate, status=1)["exits"]}
        rate, hold, peak = 30 * 16, pay["holding_s"], pay["peak_new_per_s"] / (30 * 16)
        [other] = [one for one in load["exits"] if one["exit"] == "gate-fleet"]
        [money] = [one for one in self.json("charges", estate, status=1)["exits"] if one["exit"] == "gate-a"]
        for words in (
            f"| {rate * 0.4:,.0f} | 1 |",
            f"become {hold:.2f} s | {rate * hold:,.0f} | {math.ceil(rate * hold / 63_000)} |",
            f"{peak:.1f} times the mean | {rate * peak * hold:,.0f} | {ports['gate-a']['addresses_needed']} |",
            f"| {2 * ports['gate-a']['ports_wanted']:,.0f} | {ports['gate-a']['addresses_needed_after_fault']} |",
            f"a factor of {2 * rate * peak * hold / (rate * 0.4):,.0f} in",
            f"has {other['peak_concurrent_connections']:,} connections",
            f"fullest pool has {ports['gate-fleet']['ports_wanted']:,.0f}.",
            f"on average: {float(recursion(20, 20)):.1%} of new".replace("%", " %"),
            f"ports {float(recursion(63_000, 63_000)):.1%} find none when".replace("%", " %"),
            f"{0.063 * 730:.2f} a month. `gate-a` costs {money['amount']:,.2f}",
        ):
            with self.subTest(words):
                self.assertIn(words, text)
        self.assertAlmostEqual(float(recursion(20, 12.031)), 0.01, places=5)


class WorkedExample(InFolder):
    """docs/worked-example.md, recomputed from the numbers in its text, by none of the program's code."""

    def setUp(self) -> None:
        super().setUp()
        self.assertEqual(self.program("start", ".").returncode, 0)

    def close(self, found: float, expected: Fraction | float) -> None:
        self.assertTrue(math.isclose(found, float(expected), rel_tol=1e-9), f"{found} is not {expected}")

    def test_path(self) -> None:
        paths = self.json("path")["paths"]
        self.assertEqual([one["exits"] for one in paths], [["gate", "door"]] * 2)
        hops = self.json("path", "app-b", "partner")["hops"]
        self.assertEqual([(one["exit"], one["zones"]) for one in hops], [("gate", "b to a"), ("door", "a")])

    def test_demand(self) -> None:
        found = self.json("demand")
        orders, backup = found["flows"]
        self.close(orders["holding_s"], 62)
        self.close(orders["peak_concurrent_connections"], 20 * 5 * 1.5 * 62)
        self.close(orders["mean_concurrent_connections"], 20 * 5 * 62)
        self.close(backup["peak_concurrent_connections"], 20 * 4)
        self.close(found["exits"][0]["peak_concurrent_connections"], 9380)

    def test_capacity(self) -> None:
        found = self.json("capacity")
        [gate] = found["exits"]
        self.assertEqual((gate["addresses"], gate["addresses_needed"], gate["ports"]), (3, 3, 12_000))
        self.close(gate["port_headroom"], Fraction(27, 120))
        exact = recursion(12_000, 9300)
        self.assertLess(abs(Decimal(gate["blocking"]) / exact - 1), Decimal("1e-9"))
        self.assertGreater(recursion(8_000, 9300), Decimal("1e-4"))
        limits = {one["limit"]: one["use"] for one in found["limits"]}
        self.close(limits["new connections/s"], 150)
        self.close(limits["connections"], 9380)
        # On the wire: 2 and 6 segments, 1 and 3 acknowledgements, 6 packets to open and close; the pool's are full.
        orders = 150 * (10 * 1024 + (2 + 6 + 1 + 3 + 6) * 52)
        backup = Fraction(55 * 2**30, 730 * 3600) * (1 + Fraction(3, 2) * Fraction(52, 1448))
        gbit = 8 * (orders + backup) / 10**9
        self.close(limits["throughput, Gbit/s"], gbit)

    def test_charges(self) -> None:
        month = 730 * 3600
        out = Fraction(100 * month * 2 * 1024 + 50 * 2**30, 10**9)
        back = Fraction(100 * month * 8 * 1024 + 5 * 2**30, 10**9)
        lines = {
            "hours": Fraction("42.34"),
            "addresses": Fraction("9.417"),
            "processed": (out + back) * Fraction("0.03"),
            "internet out": (out - 120) * Fraction("0.08"),
            "zone crossing": (out + back) / 2 * Fraction("0.0074"),
        }
        found = self.json("charges")
        for item, amount in lines.items():
            with self.subTest(item):
                self.close(sum(one["amount"] for one in found["lines"] if one["item"] == item), amount)
        self.close(found["month_amount"], sum(lines.values()))
        self.close(sum(one["amount"] for one in found["flows"]), sum(lines.values()))

    def test_a_year_of_growth(self) -> None:
        found = self.json("schedule", "--growth", "0.05", "--months", "12", status=1)
        loads = [9300 * 1.05**month for month in range(12)]
        rooms = {3: 11_708, 4: 15_669}
        for addresses, room in rooms.items():
            self.assertLess(recursion(4000 * addresses, room), Decimal("1e-4"))
            self.assertGreater(recursion(4000 * addresses, room + 1), Decimal("1e-4"))
        months = [next(month for month, load in enumerate(loads) if load > room) for room in rooms.values()]
        self.assertEqual([one["month"] for one in found["orders"]], months)
        self.assertEqual([one["order_by_day"] for one in found["orders"]], [int(one * 30.4375) for one in months])
        each = Fraction("0.0043") * 730
        self.close(found["orders_amount"], each * sum(12 - one for one in months))
        self.close(found["all_today_amount"], each * 2 * 12)
        self.assertEqual(found["lists_too_short"], ["partner"])
