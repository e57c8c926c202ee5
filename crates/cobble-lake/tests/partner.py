"""Tables written by the table format's own library, for the tests: `partner.py FOLDER` writes them below a folder, with the files and rows that
the library finds in them. `partner.py FOLDER ADDRESS TOKEN WAREHOUSE` does so through a catalog of the open protocol."""

import datetime as dt
import decimal
import json
import os
import sys
import time
import uuid

import pyarrow as pa
import pyarrow.parquet as pq
from partner_files import write_all
from pyiceberg.catalog.rest import RestCatalog
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.manifest import DataFileContent
from pyiceberg.partitioning import PartitionField, PartitionSpec
from pyiceberg.schema import Schema
from pyiceberg.transforms import (
    BucketTransform,
    DayTransform,
    HourTransform,
    IdentityTransform,
    MonthTransform,
    TruncateTransform,
    YearTransform,
)
from pyiceberg.types import (
    BinaryType,
    BooleanType,
    DateType,
    DecimalType,
    DoubleType,
    FixedType,
    FloatType,
    IntegerType,
    ListType,
    LongType,
    MapType,
    NestedField,
    StringType,
    StructType,
    TimestampType,
    TimestamptzType,
    TimeType,
    UUIDType,
)

folder = sys.argv[1]
if len(sys.argv) > 2:
    address, token, warehouse = sys.argv[2:5]
    catalog = RestCatalog("partner", uri=address, token=token, warehouse=warehouse)
else:
    catalog = SqlCatalog("partner", uri=f"sqlite:///{folder}/partner.db", warehouse=f"file://{folder}/warehouse")
catalog.create_namespace("ops")
START = dt.datetime(2023, 1, 1)


def sailings(first, count):
    """Rows of sailings, some of whose values are missing."""
    rows = []
    for n in range(first, first + count):
        rows.append(
            {
                "id": n,
                "vessel": None if n % 11 == 0 else f"{('Heron', 'Kestrel', 'Sørhavn', '')[n % 4]} {n % 30}",
                "port": n % 40,
                "fare": None if n % 13 == 0 else decimal.Decimal(n % 5000) / 100,
                "departed_at": START + dt.timedelta(minutes=970 * n),
                "wave": None if n % 7 == 0 else (n % 50) / 10,
            }
        )
    return rows


SAILINGS = Schema(
    NestedField(1, "id", LongType(), required=True),
    NestedField(2, "vessel", StringType(), required=False),
    NestedField(3, "port", IntegerType(), required=False),
    NestedField(4, "fare", DecimalType(9, 2), required=False),
    NestedField(5, "departed_at", TimestampType(), required=False),
    NestedField(6, "wave", DoubleType(), required=False),
)
ARROW = pa.schema(
    [
        pa.field("id", pa.int64(), nullable=False),
        pa.field("vessel", pa.string()),
        pa.field("port", pa.int32()),
        pa.field("fare", pa.decimal128(9, 2)),
        pa.field("departed_at", pa.timestamp("us")),
        pa.field("wave", pa.float64()),
    ]
)
# Of each partitioning the column that a field is made of, how, and the field's name.
TRANSFORMS = {
    "plain": [],
    "by_month": [(5, MonthTransform(), "departed_month")],
    "by_day": [(5, DayTransform(), "departed_day")],
    "by_year_and_port": [(5, YearTransform(), "departed_year"), (3, IdentityTransform(), "port")],
    "by_hour": [(5, HourTransform(), "departed_hour")],
    "by_bucket": [(1, BucketTransform(8), "id_bucket")],
    "by_prefix": [(2, TruncateTransform(3), "vessel_prefix"), (3, TruncateTransform(10), "port_tens")],
}


def told(table, rows=None):
    """What the library knows of a table's files. Where it does not read its rows, these are they."""
    snapshot = table.current_snapshot()
    files = []
    for manifest in snapshot.manifests(table.io) if snapshot else []:
        own = [entry.data_file for entry in manifest.fetch_manifest_entry(table.io)]
        files.extend(file for file in own if file.content == DataFileContent.DATA)
    name = table.name()[-1]
    if name != "kinds":
        os.makedirs(f"{folder}/rows/{name}")
        rows = table.scan().to_arrow() if rows is None else rows
        pq.write_table(rows, f"{folder}/rows/{name}/rows.parquet")
    return {
        "location": table.location(),
        "snapshot": snapshot and snapshot.snapshot_id,
        "snapshots": [{"id": own.snapshot_id, "at": own.timestamp_ms} for own in table.snapshots()],
        "manifests": len(snapshot.manifests(table.io)) if snapshot else 0,
        "files": sorted([file.file_path, file.record_count, file.file_size_in_bytes] for file in files),
    }


all_told = {}
for version in ("1", "2"):
    for name, fields in TRANSFORMS.items():
        spec = PartitionSpec(*[PartitionField(s, 1000 + i, t, n) for i, (s, t, n) in enumerate(fields)])
        count = 20 if name in ("by_hour", "by_day") else 200
        table = catalog.create_table(
            f"ops.{name}_v{version}", SAILINGS, partition_spec=spec, properties={"format-version": version}
        )
        for batch in range(3):
            table.append(pa.Table.from_pylist(sailings(batch * count, count), schema=ARROW))
        all_told[f"{name}_v{version}"] = told(table)

# Columns that have come, gone, been renamed, moved and widened, with rows of each time.
table = catalog.create_table("ops.evolved", SAILINGS, properties={"format-version": "2"})
table.append(pa.Table.from_pylist(sailings(0, 100), schema=ARROW))
with table.update_schema() as change:
    change.rename_column("vessel", "ship")
    change.update_column("port", LongType())
    change.delete_column("wave")
    change.add_column("crew", IntegerType())
    change.move_first("departed_at")
later = pa.schema(
    [
        pa.field("departed_at", pa.timestamp("us")),
        pa.field("id", pa.int64(), nullable=False),
        pa.field("ship", pa.string()),
        pa.field("port", pa.int64()),
        pa.field("fare", pa.decimal128(9, 2)),
        pa.field("crew", pa.int32()),
    ]
)
rows = [
    {
        "departed_at": row["departed_at"],
        "id": row["id"],
        "ship": row["vessel"],
        "port": 5_000_000_000 + row["id"],
        "fare": row["fare"],
        "crew": row["id"] % 9,
    }
    for row in sailings(100, 100)
]
table.append(pa.Table.from_pylist(rows, schema=later))
first = table.snapshots()[0]
# The clock of snapshots counts milliseconds.
time.sleep(0.01)
table.manage_snapshots().create_tag(first.snapshot_id, "opening").create_branch(first.snapshot_id, "audit").commit()
table.append(pa.Table.from_pylist(rows[:1], schema=later))
all_told["evolved"] = told(table)
os.makedirs(f"{folder}/rows/evolved_first")
pq.write_table(table.scan(snapshot_id=first.snapshot_id).to_arrow(), f"{folder}/rows/evolved_first/rows.parquet")

# Partitioned in one way after the other, in the end without a column that rows were partitioned by.
by_month = PartitionSpec(PartitionField(5, 1000, MonthTransform(), "departed_month"))
table = catalog.create_table("ops.respecified", SAILINGS, partition_spec=by_month, properties={"format-version": "2"})
table.append(pa.Table.from_pylist(sailings(0, 100), schema=ARROW))
with table.update_spec() as change:
    change.remove_field("departed_month")
    change.add_field("vessel", IdentityTransform(), "vessel")
    change.add_field("departed_at", DayTransform(), "departed_day")
table.append(pa.Table.from_pylist(sailings(100, 20), schema=ARROW))
with table.update_spec() as change:
    change.remove_field("vessel")
    change.add_field("id", BucketTransform(4), "id_bucket")
with table.update_schema(allow_incompatible_changes=True) as change:
    change.delete_column("vessel")
without = ARROW.remove(ARROW.get_field_index("vessel"))
rows = [{name: row[name] for name in without.names} for row in sailings(120, 100)]
table.append(pa.Table.from_pylist(rows, schema=without))
all_told["respecified"] = told(table)

# All types, with values at their ends.
kinds = Schema(
    NestedField(1, "yes", BooleanType()),
    NestedField(2, "small", IntegerType()),
    NestedField(3, "large", LongType()),
    NestedField(4, "real", FloatType()),
    NestedField(5, "double", DoubleType()),
    NestedField(6, "exact", DecimalType(38, 10)),
    NestedField(7, "day", DateType()),
    NestedField(8, "time", TimeType()),
    NestedField(9, "at", TimestampType()),
    NestedField(10, "at_utc", TimestamptzType()),
    NestedField(11, "name", StringType()),
    NestedField(12, "mark", UUIDType()),
    NestedField(13, "seal", FixedType(4)),
    NestedField(14, "bytes", BinaryType()),
    NestedField(15, "stops", ListType(16, IntegerType(), element_required=False)),
    NestedField(17, "berth", StructType(NestedField(18, "pier", StringType()), NestedField(19, "depth", DoubleType()))),
    NestedField(20, "marks", MapType(21, StringType(), 22, LongType(), value_required=False)),
)
utc = dt.timezone.utc
values = [
    [
        True, 2**31 - 1, 2**63 - 1, 1.5, float("inf"), decimal.Decimal("9999999999999999999999999999.9999999999"),
        dt.date(9999, 12, 31), dt.time(23, 59, 59, 999999), dt.datetime(2025, 7, 1, 9, 30),
        dt.datetime(2025, 7, 1, 9, 30, tzinfo=utc), "Sørhavn" * 40, uuid.UUID("f79c3e09-677c-4bbd-a479-3f349cb785e7").bytes,
        b"\x00\x01\xfe\xff", b"", [1, None, 3], {"pier": "north", "depth": 4.5}, [("a", 1), ("b", None)],
    ],
    [
        False, -(2**31), -(2**63), -0.0, float("nan"), decimal.Decimal("-0.0000000001"), dt.date(1, 1, 1), dt.time(0),
        dt.datetime(1969, 12, 31, 23, 59, 59, 999999), dt.datetime(1970, 1, 1, tzinfo=utc), "", uuid.UUID(int=0).bytes,
        b"abcd", b"\xff" * 20, [], {"pier": None, "depth": None}, [],
    ],
    [None] * 17,
]
arrow = pa.schema(
    [
        ("yes", pa.bool_()), ("small", pa.int32()), ("large", pa.int64()), ("real", pa.float32()), ("double", pa.float64()),
        ("exact", pa.decimal128(38, 10)), ("day", pa.date32()), ("time", pa.time64("us")), ("at", pa.timestamp("us")),
        ("at_utc", pa.timestamp("us", "UTC")), ("name", pa.string()), ("mark", pa.binary(16)), ("seal", pa.binary(4)),
        ("bytes", pa.binary()), ("stops", pa.list_(pa.int32())),
        ("berth", pa.struct([("pier", pa.string()), ("depth", pa.float64())])), ("marks", pa.map_(pa.string(), pa.int64())),
    ]
)
table = catalog.create_table("ops.kinds", kinds, properties={"format-version": "2"})
data = pa.Table.from_pylist([dict(zip(arrow.names, row)) for row in values], schema=arrow)
marks = pa.chunked_array([pa.ExtensionArray.from_storage(pa.uuid(), chunk) for chunk in data["mark"].chunks])
table.append(data.set_column(arrow.get_field_index("mark"), pa.field("mark", pa.uuid()), marks))
all_told["kinds"] = told(table)

all_told["never_filled"] = told(catalog.create_table("ops.never_filled", SAILINGS))

all_told.update(write_all(catalog, told, sailings, SAILINGS, ARROW))
with open(f"{folder}/told.json", "w") as out:
    json.dump(all_told, out)
