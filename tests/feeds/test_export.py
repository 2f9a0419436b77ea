"""Files read back: what was written is there, with its type."""

import csv
import io
import json

import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from flinch.feeds.export import Heading, Sheet, write_sheet

HEADINGS = [Heading("symbol", "Symbol", "", 0), Heading("iv30", "Implied", "%", 1), Heading("up", "Up?", "", 0)]
# What XML, and so a sheet, can hold; line breaks come back as they are.
texts = st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc", "Cn", "Co")), min_size=1, max_size=20)
rows = st.lists(
    st.tuples(texts, st.none() | st.floats(-1e9, 1e9) | st.just(float("nan")), st.none() | st.booleans()), max_size=6
)


def sheet(content, title: str = "Tonight") -> Sheet:
    notes = [("as of", "2026-09-09 15:45 New York")]
    return Sheet(title, HEADINGS, [list(row) for row in content], notes, [["price > 3", 12]], ("rule", "survivors"))


def known(value):
    return None if value is None or value != value else value


@settings(max_examples=60)
@given(rows)
def test_xlsx(content):
    book = openpyxl.load_workbook(io.BytesIO(write_sheet(sheet(content), "xlsx")))
    page, about = book.worksheets
    found = list(page.iter_rows(min_row=2, values_only=True))
    assert len(found) == len(content)
    for (symbol, number, flag), row in zip(content, found, strict=True):
        assert row[0] == symbol
        assert row[1] == (None if known(number) is None else pytest.approx(number, rel=1e-12))
        assert row[2] is flag
    assert about["A1"].value == "as of"
    assert [cell.value for cell in about[4]] == ["price > 3", 12]


@settings(max_examples=60)
@given(rows)
def test_csv(content):
    text = write_sheet(sheet(content), "csv").decode("utf-8-sig")
    found = list(csv.reader(io.StringIO(text, newline="")))
    assert found[0] == ["Symbol", "Implied (%)", "Up?"]
    for (symbol, number, flag), row in zip(content, found[1:], strict=True):
        assert row[0].removeprefix("'") == symbol.removeprefix("'")
        assert row[0][0] not in "=+-@"
        assert row[1] == ("" if known(number) is None else str(number))
        assert row[2] == {None: "", True: "yes", False: "no"}[flag]


@settings(max_examples=60)
@given(rows)
def test_json(content):
    document = json.loads(write_sheet(sheet(content), "json"))
    assert document["notes"] == {"as of": "2026-09-09 15:45 New York"}
    assert document["rules"] == [{"rule": "price > 3", "survivors": 12}]
    assert [(row["symbol"], row["iv30"], row["up"]) for row in document["rows"]] == [
        (symbol, known(number), flag) for symbol, number, flag in content
    ]


@pytest.mark.parametrize("title", ["", "[a]/b:c*d?e\\f", "'quoted'", "x" * 80, "日本語 ☕"])
def test_any_title_makes_a_sheet_that_opens(title):
    book = openpyxl.load_workbook(io.BytesIO(write_sheet(sheet([("TARNO", 1.0, True)], title), "xlsx")))
    assert 0 < len(book.sheetnames[0]) <= 31
    assert book.worksheets[0].freeze_panes == "B2"
    assert book.worksheets[0].auto_filter.ref == "A1:C2"


def test_an_empty_list_is_a_file_too():
    assert write_sheet(sheet([]), "csv").decode("utf-8-sig") == "Symbol,Implied (%),Up?\r\n"
    assert json.loads(write_sheet(sheet([]), "json"))["rows"] == []
    assert openpyxl.load_workbook(io.BytesIO(write_sheet(sheet([]), "xlsx"))).worksheets[0].max_row == 1


def opened(title: str, text: str):
    sheet = Sheet(title, [Heading("a", "A", "", 0)], [[text]], [("note", text)], [[text]], ["rule"])
    return openpyxl.load_workbook(io.BytesIO(write_sheet(sheet, "xlsx")))


@pytest.mark.parametrize(
    "title",
    ["Rules and as of", "rules AND as of", "History", "", "[]:*?/\\'", "\U0001d54f" * 31, "a" * 40, "\x00\x1b", "' '"],
)
def test_any_title_is_a_name_of_a_sheet(title: str):
    book = opened(title, "x")
    first, second = book.sheetnames
    assert second == "Rules and as of"
    assert 0 < len(first.encode("utf-16-le")) // 2 <= 31
    assert first.casefold() != second.casefold()


def test_characters_that_no_sheet_can_hold_are_shown_as_replaced():
    book = opened("Names", "a\x00b\x0bc\x1fd\ufffee\tf")
    assert book.worksheets[0]["A2"].value == "a\ufffdb\ufffdc\ufffdd\ufffde\tf"
    assert len(opened("Names", "x" * 40_000).worksheets[0]["A2"].value) == 32_767


def test_a_missing_value_is_an_empty_cell_of_its_own_column():
    sheet = Sheet("N", [Heading(k, k, "", 1) for k in "abc"], [[1.0, None, "x"], [float("nan"), 2.0, None]], [])
    page = openpyxl.load_workbook(io.BytesIO(write_sheet(sheet, "xlsx"))).worksheets[0]
    assert [[cell.value for cell in row] for row in page.iter_rows(min_row=2)] == [[1, None, "x"], [None, 2, None]]
    lines = write_sheet(sheet, "csv").decode("utf-8-sig").splitlines()[1:]
    assert lines == ["1.0,,x", ",2.0,"]
