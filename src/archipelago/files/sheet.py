"""The cells of a spreadsheet: separated values, Markdown tables, or a workbook (Office Open XML, ISO/IEC 29500)."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Iterator
from typing import Any, NamedTuple

from archipelago.errors import DocumentError, Problem
from archipelago.files.tree import LARGEST

MOST_ROWS = 200_000
"""The most rows of a workbook that are read."""
_RULE = re.compile(r":?-+:?")
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
"""What a cell begins with that a spreadsheet runs."""


class Sheet(NamedTuple):
    """The rows of a sheet, each with its number from 1 on; the sheet has a name where a workbook has several."""

    name: str
    rows: list[tuple[int, list[str]]]


def sheets_of(content: bytes, source: str) -> list[Sheet]:
    """The sheets of a file.

    Args:
        content: the file's bytes.
        source: how errors name it.

    Raises:
        DocumentError: it is neither text nor a workbook, or the library that reads workbooks is not there.
    """
    if content.startswith(b"PK"):
        return list(_workbook(content, source))
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = content.count(b"\n", 0, error.start) + 1
        raise DocumentError(source, [Problem(line, 1, "this is not UTF-8 text; save it as UTF-8, or .xlsx")]) from None
    return [Sheet("", list(_text_rows(text, source)))]


def guarded(cell: str) -> str:
    """A cell as it is written: what a spreadsheet would run as a formula begins with an apostrophe."""
    return f"'{cell}" if cell.startswith(_FORMULA) else cell


def _unguarded(cell: str) -> str:
    return cell[1:] if cell.startswith("'") and cell[1:].startswith(_FORMULA) else cell


def _text_rows(text: str, source: str) -> Iterator[tuple[int, list[str]]]:
    lines = text.splitlines()
    if any(line.lstrip().startswith("|") for line in lines[:50]):
        for number, line in enumerate(lines, 1):
            stripped = line.strip()
            cells = [_unguarded(cell.strip().replace("\\|", "|")) for cell in _bars(stripped)]
            if stripped.startswith("|") and not all(_RULE.fullmatch(cell) for cell in cells):
                yield number, cells
            elif not stripped.startswith("|"):
                yield number, [stripped.lstrip("# ")]
        return
    sample = "\n".join(lines[:20])
    reader = csv.reader(io.StringIO(text), delimiter=max(",;\t", key=sample.count))
    try:
        for cells in reader:
            yield reader.line_num, [_unguarded(cell.strip()) for cell in cells]
    except csv.Error as error:
        raise DocumentError(source, [Problem(reader.line_num, 1, f"this is no row of a table: {error}")]) from None


def _bars(line: str) -> list[str]:
    """The cells of a line of a Markdown table. A backslash before a bar makes it text."""
    cells, start = [], 0
    inner = line.removeprefix("|")
    inner = inner[:-1] if inner.endswith("|") and not inner.endswith("\\|") else inner
    for at, letter in enumerate(inner):
        if letter == "|" and inner[at - 1 : at] != "\\":
            cells.append(inner[start:at])
            start = at + 1
    return [*cells, inner[start:]]


def _workbook(content: bytes, source: str) -> Iterator[Sheet]:
    def wrong(told: str) -> DocumentError:
        return DocumentError(source, [Problem(0, 0, told)])

    try:
        from openpyxl import load_workbook
    except ImportError:
        raise wrong("workbooks are read by openpyxl: pip install 'archipelago[sheet]'") from None
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            if sum(part.file_size for part in archive.infolist()) > LARGEST:
                raise wrong(f"the workbook holds more than {LARGEST:,} bytes; so many are read at most")
        book = load_workbook(io.BytesIO(content), data_only=True)
        sheets = [book[name] for name in book.sheetnames if hasattr(book[name], "iter_rows")]
        for sheet in sheets:
            if sheet.max_row > MOST_ROWS:
                raise wrong(f"sheet '{sheet.title}' has {sheet.max_row:,} rows; at most {MOST_ROWS:,} are read")
        several = len(sheets) > 1
        made = [Sheet(str(sheet.title) if several else "", list(_sheet_rows(sheet))) for sheet in sheets]
    except DocumentError:
        raise
    except Exception as error:  # what is no workbook fails in as many ways as it has parts
        raise wrong(f"this is no workbook that can be read: {type(error).__name__}") from None
    yield from made


def _sheet_rows(sheet: Any) -> Iterator[tuple[int, list[str]]]:
    """The rows of a sheet of a workbook; a merged cell stands in all its places."""
    merged: dict[tuple[int, int], str] = {}
    for area in sheet.merged_cells.ranges:
        value = _text(sheet.cell(area.min_row, area.min_col).value)
        across = area.max_col > area.min_col
        for row in range(area.min_row, area.max_row + 1):
            for column in range(area.min_col, area.max_col + 1):
                if not across or column == area.min_col:  # a title over many columns is one cell
                    merged[row, column] = value
    for number, cells in enumerate(sheet.iter_rows(values_only=True), 1):
        yield number, [merged.get((number, column), _text(cell)) for column, cell in enumerate(cells, 1)]


def _text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    return _unguarded(str(value).strip())
