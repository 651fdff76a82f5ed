"""Words that no text for users has any more, in help, schemas, rules, documents and reports of the demo.

The results of the sample as JSON are looked at wherever a test asks for one (`tests.support`).
"""

from fenrask.cli.app import COMMANDS
from fenrask.demo import VELLMOUTH
from tests.end_to_end.test_documents import ROOT
from tests.support import InFolder
from tests.words import gone


class Words(InFolder):
    def clean(self, where: str, text: str) -> None:
        with self.subTest(where):
            self.assertEqual(gone(text.splitlines()), [])

    def test_help_schemas_and_rules(self) -> None:
        self.clean("fenrask", self.program().stdout)
        for name in COMMANDS:
            self.clean(name, self.program(name, "--help", columns=160).stdout)
        for name in ("estate", "catalogue"):
            self.clean(name, self.program("schema", name).stdout)
        self.program("start", ".")
        self.clean("rules", self.program("check", "--rules", "--all", columns=160).stdout)

    def test_documents(self) -> None:
        for page in (ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))):
            self.clean(str(page.relative_to(ROOT)), page.read_text(encoding="utf-8"))

    def test_reports(self) -> None:
        (self.folder / "here").mkdir()
        for name, content in VELLMOUTH.contents().items():
            (self.folder / "here" / name).write_bytes(content)
        for name in ("demand", "capacity", "addresses", "charges"):
            self.clean(name, self.program(name, "here/estate.yaml", "--explain", "--all", columns=160).stdout)
        for words in (("path", "--all"), ("confirm", "here/observed.csv")):
            self.clean(words[0], self.program(words[0], "here/estate.yaml", *words[1:], columns=160).stdout)
