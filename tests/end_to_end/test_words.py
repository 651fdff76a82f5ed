"""Words that no text for users has any more, in help, schemas, rules, documents and every report of the demo."""

import re

from fenrask.cli.app import COMMANDS
from fenrask.demo import VELLMOUTH
from tests.end_to_end.test_documents import ROOT
from tests.support import InFolder

GONE = re.compile(
    r"\b(ways? out|way out|lanes?|refus(?:ed|es)|anew|left out|far sides?|rhythms?|busiest moment|effective routes"
    r"|committed use|leads? to|led to|so many|nobody|lent-address|alike|begun ones|connections held|is held|are held"
    r"|released?|lives|one by one)\b",
    re.IGNORECASE,
)
"""The law of words, as far as a pattern can hold it; words that have a use of their own are not in it."""


class Words(InFolder):
    def clean(self, where: str, text: str) -> None:
        with self.subTest(where):
            found = [line.strip() for line in text.splitlines() if GONE.search(line)]
            self.assertEqual(found, [])

    def test_help_schemas_and_rules(self) -> None:
        self.clean("fenrask", self.program().stdout)
        for name in COMMANDS:
            self.clean(name, self.program(name, "--help", columns=160).stdout)
        for name in ("estate", "catalogue"):
            self.clean(name, self.program("schema", name).stdout)
        self.program("start", ".")
        self.clean("rules", self.program("check", "--rules", "--all", columns=160).stdout)

    def test_documents(self) -> None:
        for page in ("README.md", *(f"docs/{one}.md" for one in ("guide", "model", "files", "architecture"))):
            self.clean(page, (ROOT / page).read_text(encoding="utf-8"))

    def test_reports(self) -> None:
        (self.folder / "here").mkdir()
        for name, content in VELLMOUTH.contents().items():
            (self.folder / "here" / name).write_bytes(content)
        for name in ("demand", "capacity", "addresses", "charges", "compare", "stress"):
            self.clean(name, self.program(name, "here/estate.yaml", "--explain", "--all", columns=160).stdout)
        for words in (("check", "--all"), ("path", "--all"), ("handover", "--all"), ("confirm", "here/observed.csv")):
            self.clean(words[0], self.program(words[0], "here/estate.yaml", *words[1:], columns=160).stdout)
