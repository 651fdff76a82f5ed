"""The handover, every file read back by a reader of its own; build and undo steps carried out one by one."""

import csv
import io
import ipaddress
import json
import random
import re
import shutil
import subprocess
import sys
import unittest
from pathlib import Path
from typing import Any

import dns.zone
import openpyxl
import yaml

from fenrask.designs import BuildStep, build_steps, nothing_built
from fenrask.evaluation import Evaluation, evaluate
from fenrask.views.handover import Handover
from fenrask.views.handover.sheet import sheet_files
from tests.evaluation.estates import random_estate
from tests.evaluation.test_reuse import read as random_described
from tests.support import InFolder

FULL: dict[str, Any] = {
    "networks": {"other": {"region": "north", "prefixes": ["10.9.0.0/16"]}},
    "subnets": {
        "app": {"filters": {"wall": {
            "stateful": False,
            "out": {"web": {
                "action": "allow", "destinations": ["partner"], "ports": ["1024-2048", 443], "protocol": "tcp",
            }},
            "in": {"back": {"action": "allow", "sources": ["198.51.100.0/24"], "ports": ["1024-65535"]}},
        }}},
        "far": {"network": "other", "zone": "a", "prefix": "10.9.1.0/24", "routes": "far"},
    },
    "route_tables": {"far": {"0.0.0.0/0": "host"}, "app": {"192.0.2.0/25": [{"exit": "gate"}, {"exit": "gate2"}]}},
    "exits": {
        "host": {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": 2},
        "gate2": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": ["203.0.113.9"]},
        "inner": {"kind": "in-subnet-endpoint", "offer": "inner", "subnets": ["app"], "destination": "named"},
    },
    "destinations": {"named": {"prefixes": ["192.0.2.200/32"], "names": ["a.example", "*.b.example"], "service": True}},
    "flows": {"ask": {"from": "work", "to": "named", "per_host_per_s": 1, "duration_s": 2}},
}  # fmt: skip
OFFERS: dict[str, Any] = {
    "offers": {
        "host": {
            "kind": "translator-host",
            "rates": {"hour": 0.1},
            "ports": {"assignment": "shared-per-destination", "per_address": 28000},
            "mapping_timeout_s": {"idle": 300, "closed": 60, "reset": 10},
        },
        "inner": {"kind": "in-subnet-endpoint", "rates": {"hour": 0.01}},
    }
}
WILD = "x; }\n$(touch /tmp/owned) =1+1 <b> \u202e ../../up"


class Handovers(InFolder):
    def handed(self, changes: Any = None, *words: str) -> Path:
        self.estate({**FULL, **(changes or {})}, OFFERS)
        done = self.program("handover", "--save", "out", "--force", *words)
        self.assertEqual(done.returncode, 0, done.stderr)
        return self.folder / "out"

    def test_lists_zone_tables_and_rules_are_what_their_readers_read(self) -> None:
        out = self.handed(None, "--valid-from", "2026-12-01")
        for file in (out / "allow-lists").glob("*.txt"):
            prefixes = [line for line in file.read_text().splitlines() if not line.startswith("#")]
            said = json.loads(file.with_suffix(".json").read_text())
            self.assertEqual([str(ipaddress.ip_network(one)) for one in prefixes], said["prefixes"])
            self.assertEqual(said["valid_from"], "2026-12-01")
        allowed = json.loads((out / "allow-lists" / "partner.json").read_text())
        listed = {row["destination"]: row for row in self.json("addresses")["partners"]}["partner"]
        self.assertEqual(len(allowed["prefixes"]), listed["entries"])
        zone = dns.zone.from_text(
            (out / "endpoints.zone").read_text(), origin=".", check_origin=False, relativize=False
        )
        self.assertEqual({str(name) for name in zone}, {"a.example.", "*.b.example."})
        alerts = yaml.safe_load((out / "alerts.yaml").read_text())
        for rule in alerts["groups"][0]["rules"]:
            self.assertEqual(sorted(rule), ["alert", "annotations", "expr", "for", "labels"])
            self.assertRegex(rule["alert"], r"\A[a-zA-Z_][a-zA-Z0-9_]*\Z")
            self.assertRegex(rule["expr"], r'\A(rate\()?(connections|blocked)\{exit="[^"]+"\}(\[5m\]\))? > \d+\Z')
        index = json.loads((out / "index.json").read_text())
        written = {str(one.relative_to(out)) for one in out.rglob("*") if one.is_file()} - {"index.json"}
        self.assertEqual({one["name"] for one in index["files"]}, written)

    def test_a_private_pool_is_on_the_list_of_who_sees_it(self) -> None:
        mask = {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "private_pool": "10.0.9.8/30"}
        line = {"kind": "tunnel", "network": "net", "received": ["172.20.0.0/16"], "advertised": ["10.0.9.0/28"]}
        changes = {
            "exits": {"mask": mask, "line": line},
            "route_tables": {"private": {"172.20.0.0/16": "mask"}},
            "destinations": {"mill": {"prefixes": ["172.20.5.0/24"], "port": 443}},
            "flows": {"order": {"from": "work", "to": "mill", "per_host_per_s": 1}},
        }
        self.estate(changes)
        done = self.program("handover", "--save", "out")
        self.assertEqual(done.returncode, 1, done.stderr)
        listed = json.loads((self.folder / "out" / "allow-lists" / "mill.json").read_text())
        self.assertEqual((listed["prefixes"], listed["not_assigned_yet"]), (["10.0.9.8/30"], []))
        # `source` says the same.
        self.assertEqual(self.json("source", "mill")["sources"], ["mask's pool 10.0.9.8/30"])

    def test_alerts_stand_where_the_engine_refuses(self) -> None:
        """At the full load of a shared exit blocking is at its target: the estate is scaled there and evaluated."""
        described = self.estate({"flows": {"talk": {"growth_per_month": 0.02}}})
        [rule] = list(csv.DictReader(io.StringIO(self._file(described, "alerts.csv"))))
        peak, full, warn = (float(rule[f"{one}_connections"]) for one in ("peak", "full_at", "warn_at"))
        self.assertAlmostEqual(full / warn, 1.02, places=4)
        for times, fits in ((0.999, True), (1.01, False)):
            rate = described.estate.flows["talk"].per_host_per_s * full / peak * times
            scaled = evaluate(described.patched({"flows": {"talk": {"per_host_per_s": rate}}}, "scaled"))
            self.assertEqual(scaled.capacity.fits, fits, times)
        months = float(rule["months_left"])
        self.assertAlmostEqual(peak * 1.02**months / full, 1.0, places=2)

    def _file(self, described: Any, name: str) -> str:
        return next(one.content for one in Handover(evaluate(described)).files if one.name == name).decode()

    def test_the_workbook_computes_what_the_bill_says(self) -> None:
        """At 1, 10 and 100 times the volumes, by LibreOffice where it is installed; graduated, least and committed."""
        tiers = [{"up_to_gb": 20, "rate": 0.03}, {"up_to_gb": 300, "rate": 0.02}, {"rate": 0.005}]
        changes = {
            **OFFERS,
            "offers": {
                **OFFERS["offers"],
                "gate": {"rates": {"processed_per_gb": {"tiers": tiers}, "month_minimum": 70}},
                "inner": {**OFFERS["offers"]["inner"], "rates": {"hour": 0.01, "processed_per_gb": {"tiers": tiers}}},
            },
            "transfer": {"internet_out_per_gb": {"sum_over": "estate", "tiers": tiers}},
            "commitments": {
                "half": {"share": 0.5, "items": ["hours", "processed"], "offers": ["host", "inner"]},
                "sum": {"month_off": 9, "items": ["internet out"]},
            },
        }
        flows = {**FULL["flows"], "talk": {"out_kib_per_connection": 3, "in_kib_per_connection": 9}}
        described = self.estate({**FULL, "flows": flows}, changes)
        each = {"talk": flows["talk"], "ask": {"out_kib_per_connection": 2, "in_kib_per_connection": 1}}
        now = evaluate(described.patched({"flows": each}, "now"))
        file = next(one.content for one in Handover(now).files if one.name == "plan.xlsx")
        for factor in (1, 10, 100):
            times = {name: {key: one * factor for key, one in own.items()} for name, own in each.items()}
            more = evaluate(described.patched({"flows": times}, "more"))
            book = openpyxl.load_workbook(io.BytesIO(file))
            total = _cell_of(book["Bill"], "a month, in all", "G")
            book["Inputs"][_cell_of(book["Inputs"], "volume factor", "B")] = factor
            with self.subTest(factor=factor):
                self.assertAlmostEqual(_computed(book, "Bill", total), float(more.bill.total), places=6)
                own = next(row[0].row for row in book["Designs"].iter_rows() if row[0].value == "current")
                self.assertAlmostEqual(_computed(book, "Designs", f"C{own}"), float(more.bill.total), places=6)
                if shutil.which("soffice"):
                    found = _by_office(book, self.folder, f"times-{factor}")
                    self.assertAlmostEqual(float(found["Bill"][total].value), float(more.bill.total), places=6)

    def test_yang_is_valid_against_the_published_modules(self) -> None:
        modules = Path(sys.prefix) / "share" / "yang" / "modules"
        if not modules.is_dir():
            self.skipTest("the YANG modules of pyang are not installed")
        from yangson import DataModel

        out = self.handed({"exits": {**FULL["exits"], "six": {"kind": "direct-internet", "network": "other"}}})
        library = {"ietf-yang-library:modules-state": {"module-set-id": "1", "module": _modules(modules)}}
        model = DataModel(json.dumps(library), tuple(str(one) for one in [modules, *modules.glob("*")] if one.is_dir()))
        for name in ("routes", "nat", "filters", "topology"):
            model.from_raw(json.loads((out / f"{name}.yang.json").read_text())).validate()
        routes = json.loads((out / "routes.yang.json").read_text())["ietf-routing:routing"]
        tables = routes["control-plane-protocols"]["control-plane-protocol"]
        self.assertEqual({one["name"] for one in tables}, {"private", "public", "app", "far"})
        kept = {**FULL["subnets"], "app": {"filters": {"own": {"out": {"any": {"action": "allow"}}}}}}
        text = (self.handed({"subnets": kept}) / "filters-stateless.yang.json").read_text()
        model.from_raw(json.loads(text)).validate()

    def test_the_topology_has_each_attachment_both_ways_and_each_prefix(self) -> None:
        hub = {"kind": "hub", "networks": ["net", "far away"]}
        line = {"kind": "circuit", "hub": "pier", "third_party": "pilots", "received": ["172.20.4.0/29"]}
        self.estate(
            {
                "networks": {"far away": {"prefixes": ["10.9.0.0/16"]}},
                "exits": {"pier": hub, "line": {**line, "advertised": ["10.0.0.0/16"]}},
            }
        )
        self.assertEqual(self.program("handover", "--save", "out").returncode, 0)
        out = self.folder / "out"
        [whole] = json.loads((out / "topology.yang.json").read_text())["ietf-network:networks"]["network"]
        links = {
            (one["source"]["source-node"], one["destination"]["dest-node"])
            for one in whole["ietf-network-topology:link"]
        }
        attached = {
            ("subnet:app", "network:net"), ("subnet:edge", "network:net"), ("exit:gate", "subnet:edge"),
            ("exit:door", "network:net"), ("exit:pier", "network:net"), ("exit:pier", "network:far%20away"),
            ("exit:line", "exit:pier"), ("exit:line", "party:pilots"),
        }  # fmt: skip
        self.assertEqual(links, attached | {(other, one) for one, other in attached})
        of = "ietf-l3-unicast-topology:l3-node-attributes"
        prefixes = {
            one["node-id"]: [each["prefix"] for each in one.get(of, {}).get("prefix", ())] for one in whole["node"]
        }
        self.assertEqual(prefixes["party:pilots"], ["172.20.4.0/29"])
        self.assertEqual(prefixes["exit:line"], ["10.0.0.0/16"])
        self.assertEqual(prefixes["subnet:app"], ["10.0.1.0/24"])
        [gate] = [one for one in whole["node"] if one["node-id"] == "exit:gate"]
        self.assertIn("203.0.113.1", json.dumps(gate["ietf-network-topology:termination-point"]))

    def test_the_kernel_takes_the_routes_and_the_rules(self) -> None:
        out = self.handed()
        if not shutil.which("ip") or not _may_make_namespaces():
            self.skipTest("no network namespaces here")
        devices = dict(re.findall(r"^#   (\S+): (.+)$", (out / "routes.ip").read_text(), re.MULTILINE))
        make = "".join(
            f"ip link add {one} type veth peer name p{n}; ip link set p{n} up; ip link set {one} up; "
            for n, one in enumerate(devices)
        )
        show = "for n in 100 101 102; do ip -j route show table $n; done; ip -j rule"
        script = f"{make} ip -batch {out / 'routes.ip'} && {show}"
        done = subprocess.run(["unshare", "-n", "sh", "-ec", script], capture_output=True, text=True, timeout=60)
        self.assertEqual(done.returncode, 0, done.stderr)
        *tables, rules = (json.loads(one) for one in done.stdout.strip().splitlines())
        wanted: dict[str, dict[str, set[str]]] = {}
        for row in csv.DictReader(io.StringIO((out / "routes.csv").read_text())):
            prefix = "default" if row["prefix"].endswith("/0") else row["prefix"].removesuffix("/32")
            wanted.setdefault(row["table"], {}).setdefault(prefix, set()).add(row["exit"])
        for number, table in zip((100, 101, 102), tables, strict=True):
            name = [*wanted][number - 100]
            found = {one["dst"]: {devices[hop["dev"]] for hop in one.get("nexthops", [one])} for one in table}
            self.assertEqual(found, wanted[name], name)
        looked_up = {(one["src"], one.get("srclen", 32)): one["table"] for one in rules if one["src"] != "all"}
        self.assertEqual(looked_up[("10.9.1.0", 24)], str(100 + [*wanted].index("far")))
        if shutil.which("nft"):
            subprocess.run(["nft", "-c", "-f", str(out / "host.nft")], check=True)

    def test_build_and_undo_break_nothing_that_worked_and_leave_nothing(self) -> None:
        before = evaluate(self.estate(None, OFFERS))
        after = evaluate(self.estate(FULL, OFFERS))
        empty = nothing_built(after)
        for start, end in ((before, after), (after, before), (empty, after), (after, empty)):
            here = start
            for step in build_steps(start, end):
                here = evaluate(here.described.patched(step.patch, "step"))
                self._looks_hold(step, here)
                lost = {
                    (path.flow, path.subnet)
                    for path in start.paths.paths
                    if path.trace.verdict.arrives and (path.flow, path.subnet) in _working(end)
                } - _working(here)
                self.assertFalse(lost, step.what)
            self.assertEqual(_working(here), _working(end))
            self.assertEqual(here.bill.total, end.bill.total)
            for section in ("exits", "route_tables", "subnets", "networks"):
                self.assertEqual(here.described.data.get(section) or {}, end.described.data.get(section) or {}, section)
        self.assertEqual(empty.bill.total, 0)

    def _looks_hold(self, step: BuildStep, here: Evaluation) -> None:
        """What a step says must be seen is what `path` says of the estate then."""
        said = {
            (path.flow, path.subnet, path.trace.verdict.value, tuple(path.trace.exits)) for path in here.paths.paths
        }
        for look in step.looks:
            self.assertIn((look.flow, look.subnet, look.verdict, look.exits), said)

    def test_only_what_differs_and_what_changed_since(self) -> None:
        first = self.handed()
        shutil.move(first, self.folder / "earlier")
        shutil.copy(self.folder / "estate.yaml", self.folder / "before.yaml")
        same = self.program("handover", "--base", "before.yaml", "--save", "none")
        self.assertEqual((same.returncode, "Nothing to build" in same.stdout), (0, True))
        self.assertFalse((self.folder / "none").exists())
        more = {"exits": {**FULL["exits"], "gate": {"addresses": ["203.0.113.1", "203.0.113.77"]}}}
        out = self.handed(more, "--base", "before.yaml", "--since", "earlier")
        self.assertFalse((out / "routes.csv").exists())
        said = json.loads((out / "allow-lists" / "partner.json").read_text())
        self.assertEqual((said["added"], said["removed"]), (["203.0.113.77/32"], []))
        self.assertIn("New since the last list: 203.0.113.77/32", (out / "allow-lists" / "partner.txt").read_text())
        # What is built is what partners were told, where no earlier handover is named.
        shutil.rmtree(out)
        out = self.handed(more, "--base", "before.yaml")
        said = json.loads((out / "allow-lists" / "partner.json").read_text())
        self.assertEqual((said["added"], said["removed"]), (["203.0.113.77/32"], []))
        for words in (("--since", "nowhere"), ("--valid-from", "soon"), ("--outward", "a b")):
            self.assertEqual(self.program("handover", *words).returncode, 2)

    def test_what_is_paid_after_the_last_step(self) -> None:
        held = {"public_addresses": {"old": {"address": "203.0.113.1"}, "spare": {"address": "203.0.113.77"}}}
        handed = Handover(evaluate(self.estate(held, OFFERS))).files
        files = {one.name: one.content.decode() for one in handed if one.name.endswith(".md")}
        charges = self.json("charges", "--set", "exits=null", "--set", "route_tables.private={}", status=1)
        left = charges["month_amount"]
        # Two addresses held for 730 hours at 0.005, whatever is taken down.
        self.assertAlmostEqual(left, 2 * 730 * 0.005, places=9)
        self.assertIn(f"After the last step: {left:.2f} EUR a month.", files["undo.md"])
        self.assertIn("still held: old, spare", files["undo.md"])
        month = self.json("charges")["month_amount"]
        self.assertIn(f"After the last step: {month:,.2f} EUR a month.", files["build.md"])

    def test_the_build_sheet_gives_back_the_estate(self) -> None:
        """Read by a parser of its own: each cell as YAML, by section, entry and key."""
        for described in (
            self.estate(FULL, OFFERS),
            *(random_described(*random_estate(random.Random(seed))) for seed in range(8)),
        ):
            files = {one.name: one.content.decode() for one in sheet_files(evaluate(described))}
            found: dict[str, Any] = {}
            for name, text in files.items():
                section = name.removeprefix("sheet/").removesuffix(".csv")
                rows = list(csv.DictReader(io.StringIO(text)))
                if section == "route_tables":
                    for row in rows:
                        found.setdefault(section, {}).setdefault(row["table"], {})[row["to"]] = yaml.safe_load(
                            row["exit"]
                        )
                elif section != "planned":
                    found[section] = {
                        row.pop("name"): {key: yaml.safe_load(cell) for key, cell in row.items() if cell}
                        for row in rows
                    }
            data = described.data
            for section in ("networks", "subnets", "exits", "public_addresses", "destinations", "workloads"):
                self.assertEqual(found.get(section, {}), data.get(section) or {}, section)
            tables = {name: stated for name, stated in (data.get("route_tables") or {}).items() if stated}
            self.assertEqual(found.get("route_tables", {}), tables)

    def test_the_same_estate_gives_the_same_bytes(self) -> None:
        evaluation = evaluate(self.estate(FULL, OFFERS))
        one, other = Handover(evaluation).files, Handover(evaluate(evaluation.described)).files
        self.assertEqual([(a.name, a.content) for a in one], [(b.name, b.content) for b in other])

    def test_names_stay_names(self) -> None:
        """Names with commands, formulas, markup, line breaks and paths, in every file that is written."""
        self.estate()
        data = yaml.safe_load((self.folder / "estate.yaml").read_text())
        text = json.dumps({**data, "estate": WILD})
        for name in ("gate", "partner", "talk"):
            text = text.replace(json.dumps(name), json.dumps(f"{WILD}{name}"))
        text = text.replace(json.dumps("offer") + ": " + json.dumps(f"{WILD}gate"), '"offer": "gate"')
        self.write("estate.yaml", text)
        done = self.program("handover", "--save", "out")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertFalse(
            [one for one in self.folder.rglob("*") if one.is_file() and one.parent not in _folders(self.folder)]
        )
        for file in (one for one in (self.folder / "out").rglob("*") if one.is_file()):
            if file.suffix == ".xlsx":
                cells = [cell for sheet in openpyxl.load_workbook(file) for row in sheet for cell in row]
                wild = [cell for cell in cells if "touch" in str(cell.value)]
                self.assertTrue(wild)
                self.assertEqual({cell.data_type for cell in wild}, {"s"})
                continue
            content = file.read_text(encoding="utf-8")
            self.assertNotIn("\u202e", content.replace("\\u202e", ""), file.name)
            if file.suffix == ".csv":
                for row in csv.reader(io.StringIO(content)):
                    self.assertFalse([one for one in row if one[:1] in "=+-@" and one and not re.match(r"-?\d", one)])
            elif file.suffix in (".nft", ".conf", ".ip", ".zone"):
                sign = ";" if file.suffix == ".zone" else "#"
                lines = [line for line in content.splitlines() if not line.startswith(sign)]
                self.assertFalse([line for line in lines if "$(touch" in line], file.name)


def _folders(folder: Path) -> set[Path]:
    return {folder, *(folder / "out" / one for one in ("", "allow-lists", "sheet", "steps"))}


def _working(evaluation: Evaluation) -> set[tuple[str, str]]:
    return {(path.flow, path.subnet) for path in evaluation.paths.paths if path.trace.verdict.arrives}


def _cell_of(sheet: Any, label: str, column: str) -> str:
    return f"{column}{next(row[0].row for row in sheet.iter_rows() if row[0].value == label)}"


def _by_office(book: Any, folder: Path, name: str) -> Any:
    """The workbook with the values that LibreOffice computes."""
    book.save(folder / f"{name}.xlsx")
    convert = ("soffice", f"-env:UserInstallation=file://{folder}/office", "--headless", "--convert-to", "xlsx")
    told = (*convert, "--outdir", str(folder / "computed"), str(folder / f"{name}.xlsx"))
    subprocess.run(told, check=True, capture_output=True, timeout=180)
    return openpyxl.load_workbook(folder / "computed" / f"{name}.xlsx", data_only=True)


def _computed(book: Any, sheet: str, place: str) -> float:
    """A cell's value by the formulas alone: Python's arithmetic over cells, written for this test."""
    value = book[sheet][place].value
    if not isinstance(value, str) or not value.startswith("="):
        return float(value or 0)
    there = r"(?:(?:'([^']+)'|(\w+))!)?\$?([A-Z])\$?(\d+)"

    def cell(found: re.Match[str]) -> str:
        return f"of({(found[1] or found[2] or sheet)!r}, {found[3] + found[4]!r})"

    def summed(found: re.Match[str]) -> str:
        name, column, first, last = found[1] or sheet, found[2], int(found[3]), int(found[4])
        return str(sum(_computed(book, name, f"{column}{row}") for row in range(first, last + 1)))

    text = re.sub(r"SUM\((?:'([^']+)'!)?([A-Z])(\d+):[A-Z](\d+)\)", summed, value[1:])
    known = {"MAX": max, "MIN": min, "of": lambda name, place: _computed(book, name, place)}
    return float(eval(re.sub(there, cell, text), {"__builtins__": {}}, known))


def _modules(folder: Path) -> list[dict[str, Any]]:
    """The entries of a YANG library for what is used, by the modules' own text (RFC 7895)."""
    implemented = {
        "ietf-interfaces": [], "ietf-routing": ["router-id", "multiple-ribs"], "ietf-ipv4-unicast-routing": [],
        "ietf-ipv6-unicast-routing": [], "ietf-nat": ["napt44", "basic-nat44"], "iana-if-type": [],
        "ietf-network": [], "ietf-network-topology": [], "ietf-l3-unicast-topology": [],
        "ietf-access-control-list": [
            "match-on-ipv4", "match-on-ipv6", "match-on-tcp", "match-on-udp", "ipv4", "ipv6", "tcp", "udp",
        ],
    }  # fmt: skip
    wanted, found = [*implemented], dict[str, dict[str, Any]]()
    while wanted:
        name = wanted.pop()
        if name in found:
            continue
        text = next(folder.rglob(f"{name}.yang")).read_text(encoding="utf-8")
        revision = re.search(r"^\s*revision\s+\"?(\d{4}-\d\d-\d\d)", text, re.MULTILINE)
        space = re.search(r"namespace\s+\"([^\"]+)\"", text)
        assert revision and space
        found[name] = {
            "name": name,
            "revision": revision[1],
            "namespace": space[1],
            "conformance-type": "implement" if name in implemented else "import",
            "feature": implemented.get(name, []),
        }
        wanted += re.findall(r"^\s*import\s+([\w-]+)", text, re.MULTILINE)
    return list(found.values())


def _may_make_namespaces() -> bool:
    return subprocess.run(["unshare", "-n", "true"], capture_output=True, check=False).returncode == 0


if __name__ == "__main__":
    unittest.main()
