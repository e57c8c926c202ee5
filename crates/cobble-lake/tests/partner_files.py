"""Tables whose files the table format's own library does not write itself: with files of deleted rows, and with rows in other formats. The
files are written here, and the library puts them to the table."""

import datetime as dt
import os
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.orc as orc
import pyarrow.parquet as pq
from pyiceberg.avro.file import AvroOutputFile
from pyiceberg.conversions import to_bytes
from pyiceberg.manifest import (
    DataFile,
    DataFileContent,
    FileFormat,
    ManifestContent,
    ManifestEntry,
    ManifestEntryStatus,
    ManifestWriterV2,
)
from pyiceberg.partitioning import PartitionField, PartitionSpec
from pyiceberg.schema import Schema
from pyiceberg.table.name_mapping import create_mapping_from_schema
from pyiceberg.table.snapshots import Operation
from pyiceberg.table.update.snapshot import _FastAppendFiles
from pyiceberg.transforms import BucketTransform, IdentityTransform, MonthTransform
from pyiceberg.typedef import Record
from pyiceberg.types import (
    BooleanType,
    DateType,
    DecimalType,
    FixedType,
    IntegerType,
    ListType,
    LongType,
    MapType,
    NestedField,
    StringType,
    StructType,
    TimestampType,
    TimestamptzType,
    UUIDType,
)

PATH, PLACE = 2147483546, 2147483545


class DeletesWriter(ManifestWriterV2):
    def content(self) -> ManifestContent:
        return ManifestContent.DELETES

    @property
    def _meta(self) -> dict[str, str]:
        return {**super()._meta, "content": "deletes"}


class Change(_FastAppendFiles):
    """A snapshot with files of rows, and files of deleted rows, each with its partitioning."""

    def __init__(self, table, files) -> None:
        super().__init__(Operation.OVERWRITE, table.transaction(), table.io)
        self.files = files

    def _manifests(self):
        manifests = []
        for content in (DataFileContent.DATA, DataFileContent.POSITION_DELETES, DataFileContent.EQUALITY_DELETES):
            for spec in {file[1].spec_id: file[1] for file in self.files}.values():
                own = [file for file, its in self.files if file.content == content and its.spec_id == spec.spec_id]
                if not own:
                    continue
                if content == DataFileContent.DATA:
                    writer = self.new_manifest_writer(spec)
                else:
                    schema = self._transaction.table_metadata.schema()
                    writer = DeletesWriter(spec, schema, self.new_manifest_output(), self._snapshot_id, self._compression)
                with writer:
                    for file in own:
                        writer.add(
                            ManifestEntry.from_args(
                                status=ManifestEntryStatus.ADDED,
                                snapshot_id=self._snapshot_id,
                                sequence_number=None,
                                file_sequence_number=None,
                                data_file=file,
                            )
                        )
                manifests.append(writer.to_manifest_file())
        return manifests + self._existing_manifests()


def change(table, *files) -> None:
    own = Change(table, files)
    own.commit()
    own._transaction.commit_transaction()


def described(table, path: str, rows: int, content=DataFileContent.DATA, partition=(), spec=None, **more: Any):
    spec = spec or table.spec()
    name = path.rsplit(".", 1)[1].upper()
    file = DataFile.from_args(
        content=content,
        file_path=path,
        file_format=FileFormat(name),
        partition=Record(*partition),
        record_count=rows,
        file_size_in_bytes=os.path.getsize(path.removeprefix("file://")),
        column_sizes={},
        value_counts={},
        null_value_counts={},
        nan_value_counts={},
        lower_bounds=more.get("lower", {}),
        upper_bounds=more.get("upper", {}),
        key_metadata=None,
        split_offsets=None,
        equality_ids=more.get("columns"),
        sort_order_id=None,
        _table_format_version=2,
    )
    file.spec_id = spec.spec_id
    return file, spec


def field(id: int, kind: pa.DataType, name: str) -> pa.Field:
    return pa.field(name, kind, metadata={"PARQUET:field_id": str(id)})


class Files:
    """New files of a table."""

    def __init__(self, table) -> None:
        self.table, self.count = table, 0
        os.makedirs(f"{table.location().removeprefix('file://')}/data", exist_ok=True)

    def path(self, ending: str) -> str:
        self.count += 1
        return f"{self.table.location()}/data/by-hand-{self.count}.{ending}"

    def places(self, gone, partition=(), bounded=True):
        """A file of deleted rows: pairs of path and place, in order."""
        path = self.path("parquet")
        schema = pa.schema([field(PATH, pa.string(), "file_path"), field(PLACE, pa.int64(), "pos")])
        columns = [[own for own, _ in gone], [place for _, place in gone]]
        pq.write_table(pa.Table.from_arrays([pa.array(c, f.type) for c, f in zip(columns, schema)], schema=schema), path.removeprefix("file://"))
        bounds = {}
        if bounded:
            bounds = {"lower": {PATH: min(columns[0]).encode()}, "upper": {PATH: max(columns[0]).encode()}}
        return described(self.table, path, len(gone), DataFileContent.POSITION_DELETES, partition, **bounds)

    def values(self, rows: pa.Table, columns, partition=(), spec=None, **bounds):
        """A file of deleted rows: by values of columns of these ids."""
        path = self.path("parquet")
        pq.write_table(rows, path.removeprefix("file://"))
        return described(self.table, path, rows.num_rows, DataFileContent.EQUALITY_DELETES, partition, spec, columns=columns, **bounds)


def write_all(catalog, told, sailings, SAILINGS: Schema, ARROW: pa.Schema) -> dict[str, Any]:
    all_told = {}

    def fill(table, first, count):
        rows = pa.Table.from_pylist(sailings(first, count), schema=ARROW)
        table.append(rows)
        return rows

    def paths(table):
        """The files of rows, in the order in which they came."""
        files = table.inspect.data_files().to_pylist()
        ids = {file["file_path"]: pq.read_table(file["file_path"].removeprefix("file://"))["id"][0].as_py() for file in files}
        return sorted(ids, key=ids.get)

    # Rows deleted by their places: the first, the last, neighbours; in files of one path and of several, twice; and rows added later.
    table = catalog.create_table("ops.holed", SAILINGS, properties={"format-version": "2"})
    for n in range(3):
        fill(table, 200 * n, 200)
    one, two, three = paths(table)
    files = Files(table)
    change(table, files.places([(one, place) for place in (0, 1, 2, 77, 199)]))
    change(table, files.places(sorted([(two, 5), (three, 0), (two, 6), (three, 199)]), bounded=False), files.places([(one, 77), (one, 78)]))
    fill(table, 600, 50)
    all_told["holed"] = told(table)

    # All rows of one file, and some of others, in partitions.
    by_month = PartitionSpec(PartitionField(5, 1000, MonthTransform(), "departed_month"))
    table = catalog.create_table("ops.holed_by_month", SAILINGS, partition_spec=by_month, properties={"format-version": "2"})
    fill(table, 0, 200)
    files, changes = Files(table), []
    for n, file in enumerate(table.inspect.data_files().to_pylist()):
        gone = range(file["record_count"]) if n == 1 else range(0, file["record_count"], 7)
        changes.append(files.places([(file["file_path"], place) for place in gone], [file["partition"]["departed_month"]]))
    change(table, *changes)
    all_told["holed_by_month"] = told(table)

    # Rows deleted by values: of one column, of two with nulls among them, in one bucket and in all; rows that come later stay.
    by_bucket = PartitionSpec(PartitionField(1, 1000, BucketTransform(4), "id_bucket"))
    table = catalog.create_table("ops.revoked", SAILINGS, properties={"format-version": "2"})
    plain = table.spec()
    fill(table, 0, 100)
    with table.update_spec() as update:
        update.add_field("id", BucketTransform(4), "id_bucket")
    bucketed = table.spec()
    fill(table, 100, 100)
    files = Files(table)
    id, vessel, port = field(1, pa.int64(), "id"), field(2, pa.string(), "vessel"), field(3, pa.int32(), "port")
    bucket = BucketTransform(4).transform(LongType())
    # What it has of another column says nothing of the rows that it means.
    gone = list(range(0, 200, 9))
    by_id = pa.Table.from_arrays([pa.array(gone), pa.array([999] * len(gone), pa.int32())], schema=pa.schema([id, port]))
    other = {3: (999).to_bytes(4, "little")}
    mine = pa.Table.from_arrays([pa.array([n for n in range(80, 200) if bucket(n) == 1])], schema=pa.schema([id]))
    no_vessel = pa.Table.from_arrays(
        [pa.array([11, 33, 4], pa.int32()), pa.array([None, None, "Heron 4"], pa.string())], schema=pa.schema([port, vessel])
    )
    change(table, files.values(by_id, [1], spec=plain, lower=other, upper=other))
    change(
        table,
        files.values(mine, [1], [1], bucketed),
        files.values(no_vessel, [2, 3], spec=plain),
    )
    fill(table, 180, 40)
    kept = []
    for place, row in enumerate(sailings(0, 200) + sailings(180, 40)):
        is_gone = row["id"] % 9 == 0 or (row["id"] >= 100 and bucket(row["id"]) == 1)
        is_gone = is_gone or (row["vessel"], row["port"]) in [(None, 11), (None, 33), ("Heron 4", 4)]
        if place >= 200 or not is_gone:
            kept.append(row)
    all_told["revoked"] = told(table, pa.Table.from_pylist(kept, schema=ARROW))

    # Rows in Avro, with some deleted by places.
    kinds = Schema(
        NestedField(1, "id", LongType(), required=True),
        NestedField(2, "vessel", StringType(), required=False),
        NestedField(3, "port", IntegerType(), required=False),
        NestedField(4, "fare", DecimalType(9, 2), required=False),
        NestedField(5, "departed_at", TimestampType(), required=False),
        NestedField(6, "day", DateType(), required=False),
        NestedField(7, "at_utc", TimestamptzType(), required=False),
        NestedField(8, "open", BooleanType(), required=False),
        NestedField(9, "seal", FixedType(4), required=False),
        NestedField(10, "stops", ListType(11, IntegerType(), element_required=True), required=False),
        NestedField(12, "berth", StructType(NestedField(13, "pier", StringType(), required=False)), required=False),
        NestedField(14, "marks", MapType(15, StringType(), 16, LongType(), value_required=True), required=False),
        NestedField(17, "depths", MapType(18, IntegerType(), 19, StringType(), value_required=True), required=False),
    )
    table = catalog.create_table("ops.in_avro", kinds, properties={"format-version": "2"})
    files, rows, records = Files(table), [], []
    moment = dt.datetime(1970, 1, 1)
    for row in sailings(0, 300):
        n = row["id"]
        at = row["departed_at"]
        micros = (at - moment) // dt.timedelta(microseconds=1)
        own = {
            "id": n, "vessel": row["vessel"], "port": row["port"], "fare": row["fare"], "departed_at": at,
            "day": at.date(), "at_utc": at.replace(tzinfo=dt.timezone.utc), "open": n % 3 == 0, "seal": bytes([n % 256] * 4),
            "stops": [n, n + 1], "berth": {"pier": row["vessel"]}, "marks": [{"key": "a", "value": n}],
            "depths": [{"key": n, "value": "deep"}],
        }
        rows.append(own)
        records.append(
            Record(
                n, row["vessel"], row["port"], row["fare"] and row["fare"].quantize(Decimal("0.01")), micros, (at.date() - moment.date()).days, micros,
                own["open"], own["seal"], own["stops"], Record(row["vessel"]), {"a": n}, {n: "deep"},
            )
        )
    path = files.path("avro")
    with AvroOutputFile(table.io.new_output(path), table.schema(), "rows", metadata={"avro.codec": "deflate"}) as out:
        out.write_block(records[:120])
        out.write_block(records[120:])
    change(table, described(table, path, 300))
    change(table, files.places([(path, place) for place in (0, 119, 120, 121, 299)]))
    arrow = pa.schema(
        [
            ("id", pa.int64()), ("vessel", pa.string()), ("port", pa.int32()), ("fare", pa.decimal128(9, 2)),
            ("departed_at", pa.timestamp("us")), ("day", pa.date32()), ("at_utc", pa.timestamp("us", "UTC")), ("open", pa.bool_()),
            ("seal", pa.binary(4)), ("stops", pa.list_(pa.int32())), ("berth", pa.struct([("pier", pa.string())])),
            ("marks", pa.list_(pa.struct([("key", pa.string()), ("value", pa.int64())]))),
            ("depths", pa.list_(pa.struct([("key", pa.int32()), ("value", pa.string())]))),
        ]
    )
    left = [row for row in rows if row["id"] not in (0, 119, 120, 121, 299)]
    all_told["in_avro"] = told(table, pa.Table.from_pylist(left, schema=arrow))

    # Files without ids, of several formats, found by the names that the table maps; a column that is only in the partition.
    by_port = PartitionSpec(PartitionField(3, 1000, IdentityTransform(), "port"))
    table = catalog.create_table(
        "ops.adopted", SAILINGS, partition_spec=by_port, properties={"format-version": "2", "schema.name-mapping.default": create_mapping_from_schema(SAILINGS).model_dump_json()}
    )
    with table.update_schema() as update:
        update.rename_column("vessel", "ship")
    files, kept, added = Files(table), [], []
    for n, (ending, write) in enumerate([("parquet", pq.write_table), ("orc", orc.write_table), ("parquet", pq.write_table), ("orc", orc.write_table)]):
        own = [{**row, "port": 7 * n} for row in sailings(n * 100, 100)]
        kept.extend(own)
        rows = pa.Table.from_pylist(own, schema=ARROW)
        names = [name for name in ARROW.names if n < 2 or name != "port"]
        path = files.path(ending)
        write(rows.select(names), path.removeprefix("file://"))
        added.append(described(table, path, 100, partition=[7 * n]))
    change(table, *added)
    change(table, files.places([(file.file_path, 50) for file, _ in added[:1]], [0]), files.places([(file.file_path, 99) for file, _ in added[1:2]], [7]))
    kept = [row for row in kept if row["id"] not in (50, 199)]
    as_now = pa.schema([pa.field("ship", pa.string()) if f.name == "vessel" else f for f in ARROW])
    rows = [{("ship" if name == "vessel" else name): value for name, value in row.items()} for row in kept]
    all_told["adopted"] = told(table, pa.Table.from_pylist(rows, schema=as_now))
    return all_told
