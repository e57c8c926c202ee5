"""Works with views through the open protocol for catalogs: `partner_views.py ADDRESS TOKEN WAREHOUSE`. Makes a view in two languages and one in another
tool's alone, and answers with what it finds in the views that are there."""

import json
import sys
import time

from pyiceberg.catalog.rest import RestCatalog
from pyiceberg.schema import Schema
from pyiceberg.types import LongType, NestedField, StringType
from pyiceberg.view.metadata import SQLViewRepresentation, ViewVersion

address, token, warehouse = sys.argv[1:4]
catalog = RestCatalog("partner", uri=address, token=token, warehouse=warehouse)


def representation(sql, dialect):
    return SQLViewRepresentation(type="sql", sql=sql, dialect=dialect)


def made(name, representations):
    version = ViewVersion(
        version_id=1, timestamp_ms=int(time.time() * 1000), schema_id=0, summary={"tool": "partner"},
        representations=representations, default_namespace=["ops"],
    )
    schema = Schema(NestedField(1, "Number", LongType(), required=False), NestedField(2, "port", StringType(), required=False))
    catalog.create_view(f"ops.{name}", schema, version)


made("theirs", [representation("select nothing `that` we [read]", "theirs"), representation("SELECT id AS n, port FROM sold WHERE id < 3", "cobble-lane")])
made("plain", [representation("SELECT id AS n, port FROM sold WHERE id > 298", "another")])
made("strange", [representation("select `id` from [sold]", "strange")])
found = {}
for _, name in sorted(catalog.list_views("ops")):
    view = catalog.load_view(f"ops.{name}")
    version = view.current_version()
    found[name] = {
        "sql": [(own.root.dialect, own.root.sql) if hasattr(own, "root") else (own.dialect, own.sql) for own in version.representations],
        "schema": [(field.name, str(field.field_type)) for field in view.schema().fields],
        "place": list(version.default_namespace),
        "catalog": version.default_catalog,
        "versions": len(view.metadata.versions),
    }
assert catalog.view_exists("ops.theirs") and not catalog.view_exists("ops.nothing")
location = catalog.load_view("ops.plain").metadata.location
print(json.dumps(found))
