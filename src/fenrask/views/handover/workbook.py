"""The plan as a workbook (Office Open XML, ISO/IEC 29500): totals are formulas, and a sheet of inputs drives them."""

import io
import zipfile
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, time
from typing import Any

from openpyxl import Workbook
from openpyxl.styles import Alignment, Font, PatternFill
from openpyxl.utils import get_column_letter

from fenrask.charges import ScaledBill, scaled_bill
from fenrask.designs import Comparison
from fenrask.evaluation import Evaluation
from fenrask.views.handover.contract import HandoverFile
from fenrask.views.quoting import visible

__all__ = ["workbook_file"]

_HEAD, _FILL = Font(bold=True), PatternFill("solid", fgColor="DDE5EE")
_DAY_ONE = (1980, 1, 1, 0, 0, 0)
_MONEY = "#,##0.00"


def workbook_file(evaluation: Evaluation, comparison: Comparison) -> HandoverFile:
    """Inputs, bill, designs, capacity and addresses."""
    book = Workbook()
    inputs = book.active
    inputs.title = "Inputs"
    _inputs(inputs, evaluation)
    _bill(book.create_sheet("Bill"), evaluation)
    _designs(book.create_sheet("Designs"), book.create_sheet("Design bills"), comparison)
    _capacity(book.create_sheet("Capacity"), evaluation)
    _addresses(book.create_sheet("Addresses"), evaluation)
    for sheet in book.worksheets:
        _dress(sheet)
    day = datetime.combine(evaluation.described.catalogue.read_on, time())
    book.properties.creator, book.properties.created, book.properties.modified = "Fenrask", day, day
    return HandoverFile("plan.xlsx", "bill, designs, capacity and addresses, to calculate with", _same(book))


def _same(book: Workbook) -> bytes:
    """The workbook's bytes, the same whenever it is written: its parts carry no time of day."""
    out, whole = io.BytesIO(), io.BytesIO()
    book.save(out)
    modified = book.properties.created.strftime("%Y-%m-%dT%H:%M:%SZ")
    with zipfile.ZipFile(out) as packed, zipfile.ZipFile(whole, "w", zipfile.ZIP_DEFLATED) as again:
        for name in packed.namelist():
            content = packed.read(name)
            if name == "docProps/core.xml":
                head, tag, rest = content.decode().partition("<dcterms:modified")
                start, _, tail = rest.partition(">")
                _, _, after = tail.partition("</dcterms:modified>")
                content = f"{head}{tag}{start}>{modified}</dcterms:modified>{after}".encode() if tag else content
            again.writestr(zipfile.ZipInfo(name, _DAY_ONE), content, zipfile.ZIP_DEFLATED)
    return whole.getvalue()


def _write(sheet: Any, rows: Iterable[Sequence[Any]]) -> None:
    for row in rows:
        place = sheet.max_row + 1 if sheet.max_row > 1 or sheet.cell(1, 1).value is not None else 1
        for column, value in enumerate(row, 1):
            cell = sheet.cell(place, column)
            if isinstance(value, _Formula):
                cell.value, cell.number_format = f"={value.text}", value.shown
            elif isinstance(value, str):
                # Whatever it begins with, it is text: a name is no formula.
                cell.value = visible(value)
                cell.data_type = "s"
                cell.quotePrefix = value[:1] in "=+-@"
            else:
                cell.value = value


class _Formula:
    def __init__(self, text: str, shown: str = _MONEY) -> None:
        self.text, self.shown = text, shown


def _inputs(sheet: Any, evaluation: Evaluation) -> None:
    catalogue = evaluation.described.catalogue
    _write(
        sheet,
        [
            ("input", "value", "what it does"),
            (
                "volume factor",
                1.0,
                "times the volumes of the plan: each step of a rate, least sums and commitments follow",
            ),
            ("price factor", 1.0, "times the rates of the catalogue"),
            ("months", 12, "for the sum over a longer time"),
            ("currency", catalogue.currency, ""),
            ("prices read on", catalogue.read_on.isoformat(), catalogue.source or catalogue.catalogue),
            ("estate", evaluation.described.estate.estate, ""),
        ],
    )


_BILL = (
    "item", "charged for", "quantity", "unit", "rate", "by", "amount a month", "why", "whole volume", "above", "up to",
)  # fmt: skip
_VOLUME, _PRICE, _MONTHS = "Inputs!$B$2", "Inputs!$B$3", "Inputs!$B$4"


def _bill(sheet: Any, evaluation: Evaluation) -> None:
    _write(sheet, [_BILL])
    last = _bill_rows(sheet, scaled_bill(evaluation.paths, evaluation.plan), 2)
    total = _Formula(f"SUM(G2:G{last})") if last > 1 else 0
    _write(sheet, [("a month, in all", "", None, "", None, "", total, "")])
    _write(sheet, [("over the months", "", None, "", None, "", _Formula(f"G{last + 1}*{_MONTHS}"), "")])


def _bill_rows(sheet: Any, bill: ScaledBill, first: int) -> int:
    """The lines of a bill from a row on, of which each step of a volume is one; the last row is given back.

    What counts toward a sum is sums of products with other rows, which stand above.
    """
    for row, line in enumerate(bill.lines, first):
        quantity: Any = float(line.quantity)
        of = "+".join(f"G{first + number}*{float(share)!r}" for number, share in line.of)
        if line.volume is not None:
            whole = f"I{row}*{_VOLUME}"
            quantity = _Formula(f"MAX(0,{whole if line.up_to is None else f'MIN({whole},K{row})'}-J{row})", "#,##0.###")
        elif line.least is not None:
            quantity = _Formula(f"MAX(0,{float(line.least)!r}*{_PRICE}-({of or 0}))")
        elif line.of:
            quantity = _Formula(of if line.off is None else f"MIN({of},{float(line.off)!r}*{_PRICE})")
        # What is made of amounts has the price factor in it already.
        price = "" if line.of or line.least is not None else f"*{_PRICE}"
        by = "volume" if line.volume is not None else "other lines" if price == "" else "time"
        amount = _Formula(f"C{row}*E{row}{price}")
        edges = (
            (float(line.volume), float(line.above), line.up_to and float(line.up_to)) if line.volume is not None else ()
        )
        _write(sheet, [(line.item, line.about, quantity, line.unit, float(line.rate), by, amount, line.reason, *edges)])
    return first + len(bill.lines) - 1


def _designs(sheet: Any, bills: Any, comparison: Comparison) -> None:
    """A row for each design; its bill, line by line, stands in a sheet of its own, so that the factors hold for it."""
    _write(sheet, [("design", "meets every need", "month", "more than the cheapest that does")])
    _write(bills, [_BILL])
    passing = [n for n, one in enumerate(comparison.ranked, 2) if one.passes]
    above = 1
    for row, candidate in enumerate(comparison.ranked, 2):
        _write(bills, [(candidate.design.name,)])
        last = _bill_rows(bills, scaled_bill(candidate.evaluation.paths, candidate.evaluation.plan), above + 2)
        month: Any = _Formula(f"SUM('{bills.title}'!G{above + 2}:G{last})") if last > above + 1 else 0
        more = _Formula(f"C{row}-C${passing[0]}") if passing else ""
        _write(sheet, [(candidate.design.name, "yes" if candidate.passes else "no", month, more)])
        above = last


def _capacity(sheet: Any, evaluation: Evaluation) -> None:
    _write(sheet, [("exit", "limit", "unit", "use at the peak", "capacity", "headroom", "verdict")])
    row = 2
    for exit_limits in evaluation.capacity.every:
        for limit in exit_limits.limits:
            left = _Formula(f'IF(E{row}=0,"",(E{row}-D{row})/E{row})', "0.0%")
            _write(
                sheet,
                [
                    (
                        exit_limits.name,
                        limit.limit,
                        limit.unit,
                        float(limit.use),
                        float(limit.capacity),
                        left,
                        exit_limits.verdict,
                    )
                ],
            )
            row += 1


def _addresses(sheet: Any, evaluation: Evaluation) -> None:
    _write(sheet, [("exit", "addresses in use", "paid for", "entries", "blocks")])
    exits = evaluation.plan.exits
    _write(sheet, ([one.name, one.in_use, one.bought, one.entries, " ".join(one.blocks)] for one in exits))
    last = len(exits) + 1
    sums: Mapping[str, Any] = {
        column: _Formula(f"SUM({column}2:{column}{last})", "0") if exits else 0 for column in "BCD"
    }
    _write(sheet, [("in all", *sums.values(), "")])
    _write(sheet, [("", None, None, None, ""), ("destination", "entries", "maximum", "fits", "")])
    partners = evaluation.plan.partners
    _write(sheet, ([one.destination, one.entries, one.most, "yes" if one.fits else "no", ""] for one in partners))


def _dress(sheet: Any) -> None:
    for cell in sheet[1]:
        cell.font, cell.fill, cell.alignment = _HEAD, _FILL, Alignment(wrap_text=True, vertical="top")
    sheet.freeze_panes = "A2"
    for number, column in enumerate(sheet.columns, 1):
        widest = max((len(str(cell.value)) for cell in column if cell.data_type == "s"), default=8)
        sheet.column_dimensions[get_column_letter(number)].width = min(60, max(12, widest + 2))
