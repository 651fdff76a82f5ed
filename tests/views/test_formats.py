"""Pages in every format, from one page."""

import csv
import io
import json
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
        self.assertEqual((data["schema"], data["version"]), ("fenrask.sample", 3))
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
