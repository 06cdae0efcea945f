# Writes the workbooks beside it with Debian's python3-openpyxl and python3-odf, two general-purpose libraries that are
# independent of the reader under test:  /usr/bin/python3 make.py
import datetime
import openpyxl
from openpyxl.styles import Alignment
from odf.opendocument import OpenDocumentSpreadsheet
from odf.style import Style, TableCellProperties
from odf.table import CoveredTableCell, Table, TableCell, TableRow
from odf.text import P

book = openpyxl.Workbook()
notes = book.active
notes.title = "Notes"
notes.sheet_state = "hidden"
notes["A1"] = "nothing to see"
sheet = book.create_sheet("Rates & more")
# A header of two rows: "rate" is merged across two columns.
sheet["A1"] = "depot"
sheet["B1"] = "rate"
sheet.merge_cells("B1:C1")
sheet["D1"] = "since"
sheet["E1"] = "share"
sheet["F1"] = "open"
sheet["G1"] = "sum"
sheet["B2"] = "list"
sheet["C2"] = "paid"
sheet["D2"] = "day"
sheet["E2"] = "of all"
sheet["F2"] = "now"
sheet["G2"] = "worked out"
sheet["A2"] = "name"
rows = [
    ("Cinder Quay", 21.5, 20.25, datetime.date(2024, 5, 31), 0.05, True, "=B3+C3"),
    ("Dunlin Head", 20.0, None, datetime.datetime(2024, 2, 29, 13, 30), 0.125, False, "=B4*2"),
    ("Grüner Æsch <b>", 1e-3, 123456789.125, datetime.date(1900, 1, 15), 1, True, None),
]
for i, row in enumerate(rows, start=3):
    for j, value in enumerate(row, start=1):
        sheet.cell(i, j, value)
    sheet.cell(i, 4).number_format = "dd/mm/yyyy"
    sheet.cell(i, 5).number_format = "0.0%"
sheet["A6"] = "Merged"
sheet.merge_cells("A6:A7")
for r in (6, 7):
    sheet.cell(r, 2, 5.0 + r)
    sheet.cell(r, 3, 1.0)
sheet["E7"] = "#N/A"
sheet["E7"].data_type = "e"
book.save("openpyxl.xlsx")
book.properties.created = book.properties.modified = datetime.datetime(2025, 1, 1)

ods = OpenDocumentSpreadsheet()
table = Table(name="Depots")
def cell(kind, value, text=None, **more):
    c = TableCell(valuetype=kind, **({"value": value} if kind in ("float", "percentage", "currency") else {}), **more)
    c.addElement(P(text=text if text is not None else str(value)))
    return c
head = TableRow()
for name in ("depot", "month", "rate", "share", "open", "note"):
    head.addElement(cell("string", name))
table.addElement(head)
def line(depot, day, rate, share, open_, note, repeated=1):
    row = TableRow(numberrowsrepeated=repeated) if repeated > 1 else TableRow()
    row.addElement(cell("string", depot))
    d = TableCell(valuetype="date", datevalue=day)
    d.addElement(P(text="shown otherwise"))
    row.addElement(d)
    row.addElement(cell("currency", rate, currency="EUR") if rate is not None else TableCell())
    row.addElement(cell("percentage", share))
    b = TableCell(valuetype="boolean", booleanvalue="true" if open_ else "false")
    b.addElement(P(text="TRUE" if open_ else "FALSE"))
    row.addElement(b)
    n = TableCell(valuetype="string")
    for part in note.split("\n"):
        n.addElement(P(text=part))
    row.addElement(n)
    table.addElement(row)
line("Cinder Quay", "2024-05-31", 21.5, 0.05, True, "two\nlines")
line("Dunlin Head", "2024-02-29T13:30:00", None, 0.125, False, "plain")
line("Kelder", "2025-01-01", 19.25, 1, True, "three times", 3)
blank = TableRow(numberrowsrepeated=1000000)
blank.addElement(TableCell(numbercolumnsrepeated=1000))
table.addElement(blank)
ods.spreadsheet.addElement(table)
second = Table(name="Empty")
ods.spreadsheet.addElement(second)
ods.save("odfpy.ods")
