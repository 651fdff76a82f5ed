"""The report: read back by a parser that knows nothing of it, and against the pages of the commands."""

import json
import re
from base64 import b64decode
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

from fenrask.designs import compare
from fenrask.views.figures.designs import draw_designs
from tests.support import InFolder

WILD = {
    "estate": "<script>alert(1)</script> & \u202eCo",
    "destinations": {"partner": {"names": ["a.example"]}},
    "targets": {"blocking": 0.001},
}


class Read(HTMLParser):
    """Every element's attributes, and the text of the whole."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.elements: list[tuple[str, dict[str, str | None]]] = []
        self.words: list[str] = []
        self.quiet = False
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: Any) -> None:
        self.elements.append((tag, dict(attrs)))
        self.quiet = tag == "style"

    def handle_endtag(self, tag: str) -> None:
        self.quiet = self.quiet and tag != "style"

    def handle_data(self, data: str) -> None:
        if not self.quiet:
            self.words.append(data)

    def all(self, tag: str) -> list[dict[str, str | None]]:
        return [attributes for one, attributes in self.elements if one == tag]


class Reports(InFolder):
    def page(self, *words: str, status: int = 0) -> tuple[str, Read]:
        done = self.program("report", "plan.html", "--force", *words)
        self.assertEqual(done.returncode, status, done.stderr)
        text = (self.folder / "plan.html").read_text(encoding="utf-8")
        return text, Read(text)

    def test_where_no_mix_meets_every_need(self) -> None:
        self.estate({"flows": {"in": {"from": "internet", "to": "work", "port": 443, "per_host_per_s": 1}}})
        text, _ = self.page("--leave-out", "stress", "--leave-out", "designs", status=1)
        self.assertIn("To do: no mix meets every need (in, which comes in, does not arrive", text)
        self.assertIn("inward-lost", text)

    def test_a_page_that_stands_alone_and_can_be_read_by_all(self) -> None:
        self.estate(WILD)
        text, read = self.page()
        names = {tag for tag, _ in read.elements}
        self.assertLessEqual({"header", "main", "nav", "footer", "figure", "h1", "h2"}, names)
        self.assertFalse(names & {"script", "link", "iframe", "object", "form"})
        self.assertFalse([one for one in read.elements for key in one[1] if key.startswith("on")])
        for attributes in read.all("img"):
            self.assertTrue(attributes["alt"])
            self.assertTrue(str(attributes["src"]).startswith("data:image/svg+xml;base64,"))
        self.assertFalse(re.search(r"https?://", text))
        for attributes in read.all("a"):
            self.assertTrue(str(attributes["href"]).startswith("#"))
        ids = [one["id"] for _, one in read.elements if one.get("id")]
        self.assertEqual(len(ids), len(set(ids)))
        self.assertLessEqual({str(one["href"])[1:] for one in read.all("a")}, set(ids))
        self.assertIn("<script>alert(1)</script>", "".join(read.words))
        self.assertLess(len(text), 3_000_000)

    def test_the_mix_that_is_chosen_stands_in_the_chart_of_designs(self) -> None:
        described = self.estate()
        found = compare(described)
        words = "412.34: the cheapest mix that meets every need (choose)"
        self.assertIn(words, draw_designs(found, ".svg", 412.34).decode())
        self.assertNotIn("the cheapest mix", draw_designs(found, ".svg").decode())
        _, read = self.page("--leave-out", "stress")
        [address] = [one["src"] for one in read.all("img") if "design" in str(one.get("alt"))]
        drawn = b64decode(str(address).partition("base64,")[2]).decode()
        month = self.json("choose")["month_amount"]
        self.assertIn(f"{month:,.2f}: the cheapest mix", drawn)

    def test_findings_are_paragraphs_with_all_that_check_says(self) -> None:
        self.estate({"route_tables": {"private": {"192.0.2.0/24": "gone"}}})
        text, read = self.page("--leave-out", "choice", "--leave-out", "designs", "--leave-out", "stress", status=1)
        blocks = [one for one in read.all("ul") if one.get("class") == "blocks"]
        self.assertEqual(len(blocks), 1)
        words = " ".join(" ".join(read.words).split())
        # Each error is named at the top, by its rule and place.
        top = words[: words.index("Findings What is wrong")]
        for one in self.json("check", status=1)["findings"]:
            if one["severity"] == "error":
                self.assertIn(f"{one['rule']} at {one['path']}", top)
        for one in self.json("check", status=1)["findings"]:
            for key in ("severity", "rule", "place", "path", "cause", "remedy"):
                self.assertIn(" ".join(one[key].split()), words)

    def test_its_figures_are_those_of_the_commands(self) -> None:
        self.estate()
        _, read = self.page()
        whole = " ".join(" ".join(read.words).split())
        for command in ("check", "path", "demand", "capacity", "addresses", "charges", "compare", "stress"):
            done = self.program(command, "--format", "json")
            self.assertIn(done.returncode, (0, 1))
            for line in json.loads(done.stdout)["summary"]:
                self.assertIn(" ".join(line.split()), whole, command)
        total = self.json("charges")["month_amount"]
        self.assertIn(f"{total:,.2f}", whole)

    def test_before_and_now_parts_left_out_and_markdown(self) -> None:
        self.estate()
        before = (self.folder / "estate.yaml").read_text()
        Path(self.folder / "before.yaml").write_text(before)
        few = ("--leave-out", "choice", "--leave-out", "designs", "--leave-out", "stress")
        _, read = self.page("--base", "before.yaml", "--set", "exits.gate.addresses=9", *few)
        shown = {one.get("id") for _, one in read.elements}
        self.assertIn("before", shown)
        self.assertFalse(shown & {"choice", "designs", "stress"})
        self.assertIn("public addresses paid for", " ".join(read.words))
        self.estate(WILD)
        self.assertEqual(self.program("report", "plan.md", *few).returncode, 0)
        text = (self.folder / "plan.md").read_text(encoding="utf-8")
        self.assertIn("\\<script\\>", text)
        self.assertNotIn("\u202e", text.splitlines()[0])
        for words in (("plan.md",), ("plan.txt",), ("plan.html", "--leave-out", "all"), ()):
            self.assertEqual(self.program("report", *words).returncode, 2, words)

    def test_ranges_are_told_with_their_confidence(self) -> None:
        self.estate({"flows": {"talk": {"per_host_per_s": {"low": 1, "likely": 10, "high": 20}}}})
        few = ("--leave-out", "choice", "--leave-out", "designs", "--leave-out", "stress")
        _, read = self.page(*few, status=1)
        self.assertIn("confidence", {one.get("id") for _, one in read.elements})
