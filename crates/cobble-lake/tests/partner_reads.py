"""Reads tables with the table format's own library: `partner_reads.py WAREHOUSE ROWS` takes for its input an object with conditions for each
table, writes each table's rows below ROWS, and answers with the number of rows that each condition leaves."""

import glob
import json
import os
import re
import sys

import pyarrow as pa
import pyarrow.parquet as pq
from pyiceberg.catalog.rest import RestCatalog
from pyiceberg.table import StaticTable

warehouse, rows = sys.argv[1:3]
# Through a catalog of the open protocol: its address, a token and which of its warehouses.
catalog = RestCatalog("partner", uri=sys.argv[3], token=sys.argv[4], warehouse=warehouse) if len(sys.argv) > 3 else None


def opened(name):
    if catalog:
        return catalog.load_table(name.replace("/", "."))
    # The folder of a table that a keeper of pointers knows has a mark behind its name.
    files = glob.glob(f"{warehouse}/{name}/metadata/*.metadata.json") or glob.glob(f"{warehouse}/{name}-*/metadata/*.metadata.json")
    number = lambda file: int(re.match(r"v?(\d+)", os.path.basename(file))[1])
    return StaticTable.from_metadata(max(files, key=number))


answer = {}
for name, conditions in json.load(sys.stdin).items():
    table = opened(name)
    found = table.scan().to_arrow()
    # Maps and marks as a folder of plain files has them.
    columns, fields = [], []
    for column, field in zip(found.columns, found.schema):
        if pa.types.is_fixed_size_binary(field.type) or isinstance(field.type, pa.UuidType):
            column = pa.chunked_array([[value if value is None else str(value) for value in column.to_pylist()]], pa.string())
        columns.append(column)
        fields.append(pa.field(field.name, column.type))
    os.makedirs(f"{rows}/{name.split('/')[-1]}")
    pq.write_table(pa.Table.from_arrays(columns, schema=pa.schema(fields)), f"{rows}/{name.split('/')[-1]}/rows.parquet")
    counts = [table.scan(row_filter=condition).to_arrow().num_rows for condition in conditions]
    snapshot = table.current_snapshot()
    answer[name] = {
        "counts": counts,
        "files": [len(list(table.scan(row_filter=condition).plan_files())) for condition in conditions],
        "records": int(snapshot.summary.additional_properties["total-records"]) if snapshot else 0,
        "partitions": sorted({field.name for field in table.spec().fields}),
        "history": len(table.history()),
    }
print(json.dumps(answer))
