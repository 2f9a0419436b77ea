"""Files of any usual shape are read alike, some rows at a time; what is no file of rows is refused and nothing is read."""

from __future__ import annotations

import gzip
import io
import os
import zipfile
from pathlib import Path

import polars as pl
import pytest
from backports import zstd
from hypothesis import given
from hypothesis import strategies as st

from flinch.feeds.files import reading
from flinch.feeds.files.errors import BadFile
from flinch.feeds.files.reading import open_table

ROWS = [["TARNO", "56.80", "Lagoon; \u201ccalm\u201d"], ["BELUA", "", "a, b"], ["KOSVI", "1,5", "two\nlines"]]


def written(rows: list[list[str]], separator: str = ",", header: tuple[str, ...] = ("symbol", "close", "note")) -> str:
    def cell(text: str) -> str:
        return f'"{text}"' if any(sign in text for sign in (separator, "\n")) else text

    return "\n".join([separator.join(header), *[separator.join(cell(text) for text in row) for row in rows]]) + "\n"


def read(path: Path) -> tuple[list[str], list[tuple]]:
    table = open_table(path)
    batches = list(table.batches())
    assert all(batch.reason.null_count() == batch.cells.height for batch in batches)
    return table.columns, [row for batch in batches for row in batch.cells.rows()]


@pytest.mark.parametrize("separator", [",", ";", "\t", "|"])
@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16"])
@pytest.mark.parametrize("ends", ["\n", "\r\n"])
def test_the_same_rows_come_out_of_every_shape(tmp_path: Path, separator: str, encoding: str, ends: str):
    text = "# from somebody\n\n" + written(ROWS, separator)
    path = tmp_path / "rows.csv"
    path.write_bytes(text.replace("\n", ends).encode(encoding))
    columns, rows = read(path)
    assert columns == ["symbol", "close", "note"]
    assert [list(row) for row in rows] == [[cell.replace("\n", ends) for cell in row] for row in ROWS]


def test_latin_1_is_told_from_utf_8(tmp_path: Path):
    path = tmp_path / "rows.csv"
    path.write_bytes("symbol,company\nTARNO,Société d'été\n".encode("latin-1"))
    assert read(path)[1] == [("TARNO", "Société d'été")]


@pytest.mark.parametrize("packing", ["gzip", "zstd", "zip"])
def test_packed_files_are_unpacked_by_what_they_are_and_not_by_their_name(tmp_path: Path, packing: str):
    data, path = written(ROWS[:1]).encode(), tmp_path / "rows.txt"
    if packing == "zip":
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("inside/rows.csv", data)
    else:
        path.write_bytes({"gzip": gzip.compress, "zstd": zstd.compress}[packing](data))
    assert read(path)[1] == [tuple(ROWS[0])]


def test_parquet_keeps_its_types_and_comes_some_rows_at_a_time(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    monkeypatch.setattr(reading, "_AT_ONCE", 2)
    frame = pl.DataFrame({"symbol": ["A", "B", "C"], "close": [1.5, None, 3.25]})
    frame.write_parquet(tmp_path / "rows.parquet")
    batches = list(open_table(tmp_path / "rows.parquet").batches())
    assert [batch.cells.height for batch in batches] == [2, 1]
    assert pl.concat([batch.cells for batch in batches]).equals(frame)
    assert [n for batch in batches for n in batch.line.tolist()] == [1, 2, 3]


cells = st.text(st.characters(codec="utf-8", exclude_characters='\r\n"\0', exclude_categories=("Cc",)), max_size=8)


@given(rows=st.lists(st.tuples(cells.filter(str.strip), cells), min_size=1, max_size=30), block=st.integers(2, 40))
def test_wherever_a_piece_of_the_file_ends_the_rows_are_the_same(tmp_path_factory, rows, block: int):
    path = tmp_path_factory.getbasetemp() / "pieces.csv"
    text = "a,b\n" + "".join('"{}","{}"\n'.format(*row) for row in rows)
    path.write_bytes(text.encode())
    before, reading._BLOCK = reading._BLOCK, block
    try:
        assert read(path)[1] == rows
    finally:
        reading._BLOCK = before


def test_a_row_of_another_length_is_told_with_its_line_and_the_others_are_read(tmp_path: Path):
    path = tmp_path / "rows.csv"
    path.write_text("a,b\n1,2\n3\n\n4,5,6\n7,8\n")
    (batch,) = open_table(path).batches()
    told = dict(zip(batch.line.tolist(), batch.reason.to_list(), strict=True))
    assert told == {2: None, 3: "the row has 1 cells, the header 2", 5: "the row has 3 cells, the header 2", 6: None}


def bomb() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("rows.csv", b"a,b\n" + b"1,2\n" * 400_000)
    return out.getvalue()


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "is empty"),
        (b"\n\n# only a note\n", "no line of column names"),
        (b"a,b,a\n1,2,3\n", "Two columns of rows.csv are called 'a'"),
        (b",".join(b"c%d" % n for n in range(500)) + b"\n", "500 columns; 400 are read at most"),
        (gzip.compress(b"a,b\n" + b"1,2\n" * 9_000, mtime=0)[:-60], "packed, and broken or only a part"),
        (zstd.compress(b"a,b\n" + os.urandom(9_000).hex().encode())[:-60], "packed, and broken or only a part"),
        (b"a,b\n1,\x00\n", "is no text"),
        (b"a,b\n" + b"x" * (3 << 20), "longer than a million characters"),
        (b"a,b\n" + b"1,2\n" * 20_000 + b"\xff\xfe,1\n", "Save it as UTF-8"),
        (b"PK\x03\x04 not a zip", "packed, and broken or only a part"),
    ],
)
def test_what_is_no_file_of_rows_is_refused_in_words(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, content: bytes, words: str
):
    monkeypatch.setattr(reading, "_BLOCK", 1 << 16)
    path = tmp_path / "rows.csv"
    path.write_bytes(content)
    with pytest.raises(BadFile, match=words):
        list(open_table(path).batches())


def test_a_bomb_is_stopped_on_the_way(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    monkeypatch.setattr(reading, "_HONEST", 1 << 16)
    monkeypatch.setattr(reading, "_BOMB", 100)
    monkeypatch.setattr(reading, "_BLOCK", 1 << 16)
    path = tmp_path / "rows.zip"
    path.write_bytes(bomb())
    with pytest.raises(BadFile, match="unpacks to more than 100 times its size"):
        list(open_table(path).batches())


def test_folders_links_and_pipes_are_no_files(tmp_path: Path):
    (tmp_path / "folder.csv").mkdir()
    (tmp_path / "link.csv").symlink_to("/etc/passwd")
    os.mkfifo(tmp_path / "pipe.csv")
    for name, what in (("folder.csv", "a folder"), ("link.csv", "a link"), ("pipe.csv", "no plain file")):
        with pytest.raises(BadFile, match=what):
            open_table(tmp_path / name)
    (tmp_path / "rows.parquet").write_bytes(b"PAR1 and no more")
    with pytest.raises(BadFile, match="is not Parquet"):
        open_table(tmp_path / "rows.parquet")
    with zipfile.ZipFile(tmp_path / "two.zip", "w") as archive:
        archive.writestr("a.csv", "a\n1\n")
        archive.writestr("b.csv", "a\n1\n")
    with pytest.raises(BadFile, match="holds 2 files"):
        open_table(tmp_path / "two.zip")


def test_a_quote_within_a_cell_is_a_sign_like_any_other(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    """Quotes count only where a cell begins with one: inches do not open one that nobody closes."""
    monkeypatch.setattr(reading, "_BLOCK", 64)
    path = tmp_path / "rows.csv"
    lines = [f"A{n},{n}{chr(34) if n % 3 == 0 else ''} pipes" for n in range(400)]
    path.write_text("symbol,company\n" + "\n".join(lines) + "\n")
    assert read(path)[1] == [tuple(line.split(",")) for line in lines]
    numbers = [n for batch in open_table(path).batches() for n in batch.line.tolist()]
    assert numbers == list(range(2, 402))


def test_a_quote_that_is_left_open_is_told_with_its_line(tmp_path: Path):
    path = tmp_path / "rows.csv"
    path.write_text('symbol,company\nA,one\nB,"two\n' + "C,three\n" * 40_000)
    with pytest.raises(BadFile, match="Is a quote left open") as told:
        list(open_table(path).batches())
    assert told.value.where == "line 3"


def test_lines_end_with_their_own_sign_alone(tmp_path: Path):
    """Text has other signs that some take for the end of a line: a note or a name may hold them."""
    path = tmp_path / "rows.csv"
    path.write_text("# made\u2028by somebody\x0b\nsymbol,company\nA,one\x0ctwo\nB,three\n")
    assert read(path) == (["symbol", "company"], [("A", "one\x0ctwo"), ("B", "three")])
    assert [n for batch in open_table(path).batches() for n in batch.line.tolist()] == [3, 4]


def test_a_file_that_is_not_there_is_told(tmp_path: Path):
    with pytest.raises(BadFile, match="cannot be read: No such file"):
        open_table(tmp_path / "nowhere.csv")
