"""Pages in every format, from one page."""

import csv
import io
import json
import random
import unittest
from decimal import Decimal
from fractions import Fraction

from fenrask.views.formats import FORMATS, Rendering
from fenrask.views.formats.terminal import column_widths
from fenrask.views.page import Column, Page, Table

PAGE = Page(
    "sample",
    "Test",
    ("the answer",),
    (
        Table(
            "rows",
            "Rows",
            (
                Column("name", "name"),
                Column("parts", "parts", "list"),
                Column("held", "held", "number", decimals=2),
                Column("share", "share", "share"),
                Column("rate", "rate", "rate"),
                Column("amount", "amount", "money"),
                Column("change", "change", "difference"),
                Column("fits", "fits", "yes"),
                Column("day", "day", "series", least_width=100),
            ),
            [
                (
                    "a|b",
                    ["x", "y"],
                    1234.567,
                    0.5,
                    Decimal("0.0071"),
                    Fraction(1, 3),
                    Fraction(-5, 2),
                    True,
                    [1, 2],
                ),
                ("c", [], None, 1e-9, Decimal(0), Fraction(10**7), Fraction(0), False, [0, 0]),
            ],
        ),
        Table("more", "More", (Column("name", "name"),), [], empty="nothing more"),
    ),
    {"total": Fraction(1, 3)},
    ("half of it",),
)


class Formats(unittest.TestCase):
    def test_json_holds_everything_raw(self) -> None:
        data = json.loads(FORMATS["json"](PAGE, Rendering()))
        self.assertEqual((data["schema"], data["version"]), ("fenrask.sample", 4))
        self.assertEqual(data["rows"][0]["amount"], 1 / 3)
        self.assertEqual(data["rows"][0]["parts"], ["x", "y"])
        self.assertEqual(data["rows"][0]["day"], [1, 2])
        self.assertEqual((data["more"], data["total"], data["not_counted"]), ([], 1 / 3, ["half of it"]))

    def test_csv_holds_the_main_table_raw(self) -> None:
        rows = list(csv.DictReader(io.StringIO(FORMATS["csv"](PAGE, Rendering()))))
        self.assertEqual((rows[0]["name"], rows[0]["day"], rows[0]["fits"]), ("a|b", "1 2", "true"))
        self.assertEqual((rows[1]["held"], float(rows[0]["amount"])), ("", 1 / 3))

    def test_tables_for_people(self) -> None:
        text = FORMATS["table"](PAGE, Rendering(120))
        for word in (
            "the answer",
            "1,234.57",
            "50.0%",
            "<0.1%",
            "0.0071",
            "0.33",
            "-2.50",
            "10,000,000.00",
            "yes",
        ):
            self.assertIn(word, text)
        self.assertIn("nothing more", text)
        self.assertIn("not counted: half of it", text)
        self.assertNotIn("\x1b", text)
        self.assertIn("day", text)
        self.assertIn("not shown at this width: day", FORMATS["table"](PAGE, Rendering(80)))

    def test_markdown_escapes_what_would_break_a_table(self) -> None:
        text = FORMATS["markdown"](PAGE, Rendering())
        self.assertIn("| a\\|b | x, y | 1,234.57 |", text)
        self.assertIn("| --- | --- | ---: |", text)


class Screens(unittest.TestCase):
    def test_narrow_ones_keep_the_columns_that_answer(self) -> None:
        """Names of any length, at any width from 60 on: what answers is there, and every name whole, but for breaks."""
        dice = random.Random(3)
        for _ in range(60):
            names = ["-".join("x" * dice.randint(2, 9) for _ in range(dice.randint(1, 5))) for _ in range(4)]
            columns = (
                Column("name", "name", is_answer=True), Column("detail", "a detail", least_width=dice.choice([0, 90])),
                Column("path", "path", "list", is_answer=True), Column("more", "some more of it", "count"),
                Column("verdict", "verdict", is_answer=True),
            )  # fmt: skip
            rows = [(name, "some words on it", names[:2], 1_000_000, "arrives") for name in names]
            page = Page("x", "x", ("answer",), (Table("t", "T", columns, rows),))
            width = dice.randint(60, 130)
            text = FORMATS["table"](page, Rendering(width))
            with self.subTest(names=names, width=width):
                self.assertLessEqual(max(map(len, text.splitlines())), width)
                head = text.split("─")[0]
                for heading in ("name", "path", "verdict"):
                    self.assertIn(heading, head)
                self.assertEqual(text.count("arrives"), 4)
                # Read down its column, each name is there.
                first = "".join(line[: text.splitlines()[3].find("path")].strip() for line in text.splitlines()[5:])
                for name in names:
                    self.assertIn(name.replace("-", ""), first.replace("-", ""))

    def test_a_screen_is_enough_for_any_page(self) -> None:
        dice = random.Random(5)
        for _ in range(40):
            tables = tuple(
                Table(
                    f"t{n}", f"Table {n}", (Column("a", "a"), Column("b", "b", below=" ")),
                    [(f"row {row}", "words " * dice.randint(1, 60)) for row in range(dice.choice([0, 1, 4, 30, 200]))],
                    as_blocks=dice.random() < 0.3, shown=dice.choice([0, 8, 40]), behind_all=dice.random() < 0.2,
                )
                for n in range(dice.randint(1, 6))
            )  # fmt: skip
            page = Page("x", "x", ("an answer",), tables, {}, tuple(f"not {n}" for n in range(dice.choice([0, 3]))))
            text = FORMATS["table"](page, Rendering(80))
            rows = [table for table in tables if table.rows]
            with self.subTest(tables=[(len(one.rows), one.as_blocks) for one in tables]):
                self.assertLessEqual(len(text.splitlines()), 46)
                # Each table is shown, or named.
                for table in rows:
                    self.assertIn(table.title, text)
                whole = FORMATS["table"](page, Rendering(80, all_rows=True))
                self.assertEqual(whole.count("row "), sum(len(one.rows) for one in tables))

    def test_a_paragraph_longer_than_a_screen_is_whole(self) -> None:
        columns = (Column("a", "a"), *(Column(f"b{line}", "b", below=f"line {line}") for line in range(50)))
        rows = [(f"row {row}", *["x"] * 50) for row in range(3)]
        tables = (
            Table("t", "T", columns, rows, as_blocks=True),
            Table("u", "U", columns[:1], [(n,) for n in range(10_000)]),
        )
        text = FORMATS["table"](Page("x", "x", ("answer",), tables), Rendering(80))
        heads = ["row 0", "row 1", "row 2", "  2 more in full: --all"]
        self.assertEqual([line.rstrip() for line in text.splitlines() if "row" in line or "--all" in line][:4], heads)
        self.assertIn("line 49x", text)
        self.assertIn("More with --all: U", text)

    def test_an_answer_is_shown_and_what_was_asked_for_is_whole(self) -> None:
        rows = [(f"row {row}", "words " * 40) for row in range(60)]
        columns = (Column("a", "a"), Column("b", "b", below=" "))
        for answer, whole in ((True, False), (False, True), (False, False)):
            with self.subTest(answer=answer, whole=whole):
                last = Table("last", "Last", columns, rows, as_blocks=True, is_answer=answer, is_whole=whole)
                tables = (*(Table(f"t{n}", f"Table {n}", columns, rows) for n in range(6)), last)
                text = FORMATS["table"](Page("x", "x", ("an answer",), tables), Rendering(80))
                shown = text.count("row ") if tables[0] is last else text.partition("Last\n")[2].count("row ")
                self.assertEqual((shown > 0, shown >= 60), (answer or whole, whole))


class Widths(unittest.TestCase):
    def test_fit_and_keep_words_whole_while_there_is_room(self) -> None:
        cases = (
            (["a", "b"], [["xxx"], ["yy yy"]], 20, [3, 5]),
            (["a", "b"], [["xxx"], ["yy yy yy yy"]], 9, [3, 6]),
            (["a", "b"], [["xxxxxxxxxx"], ["y"]], 6, [5, 1]),
            (["a long heading", "b"], [["x"], ["y"]], 40, [14, 1]),
        )
        for headings, cells, room, expected in cases:
            with self.subTest(cells=cells, room=room):
                widths = column_widths(headings, cells, room)
                self.assertEqual(widths, expected)
                self.assertLessEqual(sum(widths), room)
