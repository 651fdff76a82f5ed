"""Bills, connection tables and names' histories against the plan."""

import io
import json
from typing import Any

from fenrask.errors import Problem
from fenrask.estate.history import Answered, history_text, read_history
from fenrask.prefixes import parse_address
from fenrask.records.observations import read_observations
from fenrask.records.rotation import rotations
from tests.support import InFolder

HEAD = "BilledCost,BillingCurrency,ResourceName,ChargeDescription\n"


class Bills(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.estate({"flows": {"talk": {"out_kib_per_connection": 40}}})
        self.lines = {one["exit"]: one["amount"] for one in self.json("charges")["exits"]}

    def compared(self, text: str, *more: str, status: int) -> dict[str, dict[str, Any]]:
        self.write("bill.csv", HEAD + text)
        return {
            one["about"]: one for one in self.json("confirm", "--bill", "bill.csv", *more, status=status)["compared"]
        }

    def test_each_exit_and_the_total(self) -> None:
        gate, door = self.lines["gate"], self.lines["door"]
        found = self.compared(f"{gate},EUR,nat/gate,all\n{door * 1.01},EUR,door,out\n", status=0)
        self.assertEqual({one["verdict"] for one in found.values()}, {"as planned"})
        found = self.compared(f"{gate + 20},EUR,gate,all\n", status=1)
        self.assertEqual((found["gate"]["verdict"], found["door"]["verdict"]), ("different", "not seen yet"))

    def test_a_line_charged_twice_is_named(self) -> None:
        hours = next(one["amount"] for one in self.json("charges")["lines"] if one["item"] == "hours")
        self.write("bill.csv", f"{HEAD}{self.lines['gate'] + hours},EUR,gate,all\n")
        [cause] = [
            one["cause"]
            for one in self.json("confirm", "--bill", "bill.csv", status=1)["differences"]
            if one["subnet"] == "bill of gate"
        ]
        self.assertIn("`hours` once more", cause)

    def test_resources_that_no_name_tells_are_mapped_by_hand(self) -> None:
        text = f"{self.lines['gate']},EUR,res-17,all\n{self.lines['door']},EUR,door,out\n"
        self.assertEqual(self.compared(text, status=1)["gate"]["verdict"], "not seen yet")
        self.assertEqual(self.compared(text, "--resource", "res-17=gate", status=0)["gate"]["verdict"], "as planned")
        self.assertEqual(self.program("confirm", "--bill", "bill.csv", "--resource", "res-17=gata").returncode, 2)

    def test_a_bill_of_everything_is_held_against_what_is_about_ways_out(self) -> None:
        """Transfer of the whole account, an address by itself, machines and tax: as providers write them."""
        hours, addresses, processed, out = (
            sum(one["amount"] for one in self.json("charges")["lines"] if one["item"] == item)
            for item in ("hours", "addresses", "processed", "internet out")
        )
        head = "BilledCost,BillingCurrency,ResourceName,ChargeDescription,ServiceCategory,ChargeCategory\n"
        rows = (
            f"{hours + processed},EUR,nat/gate,gateway hours and data,Networking,Usage\n"
            f"{addresses},EUR,203.0.113.1,public address,Networking,Usage\n"
            f"{out},EUR,account,data transfer to internet,Networking,Usage\n"
            "900,EUR,vm-1,machine hours,Compute,Usage\n70,EUR,gate,tax,Networking,Tax\n"
        )
        self.write("bill.csv", head + rows)
        found = self.json("confirm", "--bill", "bill.csv")
        told = [(one["about"], one["item"], one["verdict"]) for one in found["compared"]]
        self.assertEqual(
            told,
            [("gate", "exit", "as planned"), ("(no exit)", "internet out", "as planned"),
             ("the bill", "total", "as planned")],
        )  # fmt: skip
        self.assertEqual(
            found["not_counted"], ["bill.csv: 2 rows about something else (Compute, Tax), 970.00 EUR: not compared"]
        )
        # Data by account, though the gateway has a row of its own for its hours.
        apart = rows.replace(f"{hours + processed},EUR,nat/gate,gateway hours and data", f"{hours},EUR,nat/gate,hours")
        self.write("bill.csv", f"{head}{apart}{processed},EUR,account,data processed,Networking,Usage\n")
        found = self.json("confirm", "--bill", "bill.csv")
        told = {(one["about"], one["item"]): one["verdict"] for one in found["compared"]}
        self.assertEqual({*told.values()}, {"as planned"})
        self.assertIn(("(no exit)", "processed"), told)
        self.write("bill.csv", (head + rows).replace(f"{out},", f"{2 * out},"))
        found = self.json("confirm", "--bill", "bill.csv", status=1)
        bad = [(one["about"], one["item"]) for one in found["compared"] if one["verdict"] == "different"]
        self.assertEqual(bad, [("(no exit)", "internet out"), ("the bill", "total")])

    def test_parquet_says_what_csv_says(self) -> None:
        import pyarrow as arrow
        import pyarrow.parquet as parquet

        costs = [self.lines["gate"], self.lines["door"]]
        rows = {"BilledCost": costs, "BillingCurrency": ["EUR"] * 2, "ResourceName": ["gate", "door"]}
        buffer = io.BytesIO()
        parquet.write_table(arrow.table(rows), buffer)
        (self.folder / "bill.parquet").write_bytes(buffer.getvalue())
        found = self.json("confirm", "--bill", "bill.parquet")["compared"]
        text = f"{costs[0]},EUR,gate,\n{costs[1]},EUR,door,\n"
        self.assertEqual(found, list(self.compared(text, status=0).values()))

    def test_what_is_no_bill(self) -> None:
        for name, content in (("a", b"PAR1 rubbish"), ("b", b"cost,what\n1,2\n"), ("c", b"")):
            (self.folder / name).write_bytes(content)
            self.assertEqual(self.program("confirm", "--bill", name).returncode, 2)
        self.write("bill.csv", f"{HEAD}5,USD,gate,x\nmany,EUR,gate,x\n1,EUR,gate,x\n")
        found = self.json("confirm", "--bill", "bill.csv", status=1)
        self.assertEqual([line.split(" ")[0] for line in found["not_counted"]], ["bill.csv:2:1:", "bill.csv:3:1:"])


class ConnectionTable(InFolder):
    LINE = (
        "tcp      6 117 TIME_WAIT src=10.0.1.9 dst=198.51.100.7 sport=40000 dport=443 "
        "src=198.51.100.7 dst=203.0.113.1 sport=443 dport=40000 [ASSURED] mark=0 use=1\n"
    )

    def test_inside_and_outside_of_each_connection(self) -> None:
        [one] = read_observations(self.LINE, "table", "", problems := list[Problem]())
        self.assertEqual((one.sender, one.destination, str(one.seen_as)), ("10.0.1.9", "198.51.100.7", "203.0.113.1"))
        self.assertEqual(problems, [])
        self.estate()
        self.write("table.txt", self.LINE * 2)
        [row] = self.json("confirm", "table.txt")["observed"]
        self.assertEqual(
            (row["subnet"], row["destination"], row["times"], row["verdict"]), ("app", "partner", 2, "as planned")
        )


class Histories(InFolder):
    ANSWERS = [
        Answered(f"2026-11-{day:02d}T00:00:00+00:00", "api.example", parse_address(f"198.51.100.{last}"))
        for day, last in ((1, 4), (1, 5), (8, 5), (8, 6), (15, 9))
    ]

    def test_the_union_and_how_fast_it_drifts(self) -> None:
        [one] = rotations(self.ANSWERS, ["api.example", "other.example"])
        self.assertEqual([str(each) for each in one.addresses], [f"198.51.100.{last}" for last in (4, 5, 6, 9)])
        # Two addresses at first, two more in two weeks.
        self.assertEqual((one.looks, one.new_per_week), (3, 1.0))
        read = read_history(history_text(self.ANSWERS), "names.csv", problems := list[Problem]())
        self.assertEqual((read, problems), (self.ANSWERS, []))

    def test_destinations_known_by_name_alone_are_planned_with_it(self) -> None:
        named = {"destinations": {"partner": {"prefixes": None, "names": ["api.example"], "port": 443}}}
        narrow = {"route_tables": {"private": {"0.0.0.0/0": None, "198.51.100.0/24": "gate"}}}
        self.estate({**named, **narrow})
        self.assertEqual(self.json("path", status=1)["paths"][0]["verdict"], "unresolved name")
        self.write("names.csv", history_text(self.ANSWERS))
        self.assertEqual(self.json("path", "--set", "names_history=names.csv")["paths"][0]["verdict"], "arrives")
        self.write("names.csv", "time,name,address\nyesterday,api.example,x\n")
        self.assertEqual(self.program("path", "--set", "names_history=names.csv").returncode, 2)

    def test_each_look_up_adds_to_it(self) -> None:
        from fenrask.demo.stand_ins import dns_server

        self.estate({"destinations": {"partner": {"names": ["api.example"]}}})
        for last in (7, 8):
            with dns_server(f"$ORIGIN example.\napi 60 IN A 198.51.100.{last}\n") as port:
                self.program("resolve", "--server", f"127.0.0.1#{port}", "--history", "names.csv")
        rows = (self.folder / "names.csv").read_text().splitlines()
        self.assertEqual(
            [row.split(",")[1:] for row in rows[1:]], [["api.example", f"198.51.100.{last}"] for last in (7, 8)]
        )
        with dns_server("$ORIGIN example.\napi 60 IN A 198.51.100.8\n") as port:
            words = ("resolve", "--server", f"127.0.0.1#{port}", "--history", "names.csv", "--format", "json")
            found = json.loads(self.program(*words).stdout)
        self.assertEqual(found["rotation"][0]["addresses"], ["198.51.100.7", "198.51.100.8"])
