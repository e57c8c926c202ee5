#!/usr/bin/env python3
"""The ferry company's tide tables, served to Cobble Lane by a Python program: the same rows as `tide_tables.rs` gives.

    pip install pyarrow
    python3 tide_tables.py 127.0.0.1:7341
    cobble connection add almanac_program --kind flight --address 127.0.0.1:7341
    cobble catalog add almanac --connection almanac_program

The environment variable TIDE_TABLES_SECRET names a secret that callers must know. docs/CONNECTORS.md describes the protocol.
"""
import datetime
import decimal
import json
import os
import sys

import pyarrow as pa
import pyarrow.flight as flight

PORTS, TIDES, BETWEEN = 40, 353, 22_357
START = datetime.datetime(2025, 1, 1)
PORTS_OF_A_PORTION = 10
ROWS_OF_A_BATCH = 8192
TABLE = {"schema": "public", "name": "tides"}
SCHEMA = pa.schema([
    pa.field("id", pa.int64(), nullable=False),
    pa.field("port_id", pa.int32(), nullable=False),
    pa.field("at", pa.timestamp("us"), nullable=False),
    pa.field("kind", pa.string(), nullable=False),
    pa.field("height", pa.decimal128(5, 2), nullable=False),
    pa.field("note", pa.string()),
])


def value(tide, column):
    """Every value follows from the tide's number."""
    port, place = tide // TIDES + 1, tide % TIDES
    if column == "id":
        return tide
    if column == "port_id":
        return port
    if column == "at":
        return START + datetime.timedelta(seconds=place * BETWEEN + port * 600)
    if column == "kind":
        return "high" if place % 2 == 0 else "low"
    if column == "height":
        return decimal.Decimal((420 if place % 2 == 0 else 90) + (place * 37 + port * 11) % 60) / 100
    return "spring tide" if place % 57 == 0 else None


class Unknown(Exception):
    """A condition that this program does not compute."""


def constant(literal, kind):
    if literal is None:
        return None
    if kind in ("smallint", "integer", "bigint"):
        return int(literal)
    if kind == "boolean":
        return literal == "true"
    if kind == "text":
        return literal
    raise Unknown


def compile_condition(condition):
    """The condition as a function of a tide's number; None is SQL's unknown."""
    if "column" in condition:
        name = condition["column"]
        if name not in ("id", "port_id", "kind", "note"):
            raise Unknown
        return lambda tide: value(tide, name)
    if "literal" in condition:
        known = constant(condition["literal"], condition["type"])
        return lambda tide: known
    call, parts = condition["call"], [compile_condition(part) for part in condition["arguments"]]
    # Texts are compared by their bytes.
    plain = lambda v: v.encode() if isinstance(v, str) else v
    tests = {"=": lambda a, b: a == b, "<>": lambda a, b: a != b, "<": lambda a, b: a < b,
             "<=": lambda a, b: a <= b, ">": lambda a, b: a > b, ">=": lambda a, b: a >= b}
    if call in tests:
        def compare(tide):
            a, b = (plain(part(tide)) for part in parts)
            return None if a is None or b is None else tests[call](a, b)
        return compare
    if call == "is null":
        return lambda tide: parts[0](tide) is None
    if call == "is distinct from":
        return lambda tide: parts[0](tide) != parts[1](tide)
    if call == "is not distinct from":
        return lambda tide: parts[0](tide) == parts[1](tide)
    if call == "not":
        return lambda tide: None if parts[0](tide) is None else not parts[0](tide)
    if call in ("and", "or"):
        deciding = call == "or"
        def both(tide):
            all_of = [part(tide) for part in parts]
            return deciding if deciding in all_of else None if None in all_of else not deciding
        return both
    if call == "in":
        def within(tide):
            wanted, *found = (part(tide) for part in parts)
            return None if wanted is None else True if wanted in found else None if None in found else False
        return within
    raise Unknown


def answer(offer):
    piece = offer["piece"]
    if "filter" in piece:
        try:
            compile_condition(piece["filter"])
        except Unknown:
            return {"verdict": "kept", "note": "only ids, ports, kinds and notes are compared here"}
        return {"verdict": "pushed"}
    if "limit" in piece:
        return {"verdict": "prunes", "note": "no portion gives more"}
    if "keys" in piece:
        if piece["keys"]["column"] in ("id", "port_id"):
            return {"verdict": "prunes", "note": "other tides are left out"}
        return {"verdict": "kept", "note": "tides are found by id and port"}
    if "groups" in piece:
        if is_grouped_here(piece["groups"]):
            return {"verdict": "pushed"}
        return {"verdict": "kept", "note": "only ports and kinds are grouped here, and ids and notes gathered"}
    if "top" in piece:
        if [(key["column"], key["descending"]) for key in piece["top"]["order"]] == [("id", False)]:
            return {"verdict": "prunes", "note": "tides come by their ids"}
        return {"verdict": "kept", "note": "tides come by their ids alone"}
    return {"verdict": "kept", "note": "this program does not know such a piece"}


def is_grouped_here(groups):
    """Groups by port and kind, and counts, least and greatest values of ids and notes."""
    try:
        for value_of in groups["values"]:
            if "filter" in value_of:
                compile_condition(value_of["filter"])
            if value_of["function"] == "sum" or value_of.get("column", "id") not in ("id", "kind", "note"):
                return False
    except Unknown:
        return False
    return all(name in ("port_id", "kind") for name in groups["by"])


def group_value(wanted, tides):
    if "filter" in wanted:
        test = compile_condition(wanted["filter"])
        tides = [tide for tide in tides if test(tide) is True]
    if "column" not in wanted:
        return len(tides)
    found = [v for v in (value(tide, wanted["column"]) for tide in tides) if v is not None]
    if wanted.get("distinct"):
        found = list(set(found))
    if wanted["function"] == "count":
        return len(found)
    choose = min if wanted["function"] == "min" else max
    return choose(found, key=lambda v: v.encode() if isinstance(v, str) else v, default=None)


def answered(request):
    """The columns of the rows that answer a request."""
    groups = request.get("groups") or {"values": []}
    values = {v["name"]: pa.int64() if v["type"] == "bigint" else pa.string() for v in groups["values"]}
    return pa.schema([pa.field(n, values[n]) if n in values else SCHEMA.field(n) for n in request["columns"]])


def grouped(request):
    """One row for each group, and one of all rows where nothing is grouped by."""
    groups, schema = request["groups"], answered(request)
    filters = [compile_condition(condition) for condition in request.get("filters", [])]
    found = {} if groups["by"] else {(): []}
    for tide in range(PORTS * TIDES):
        if all(test(tide) is True for test in filters):
            found.setdefault(tuple(value(tide, name) for name in groups["by"]), []).append(tide)
    def column(name):
        if name in groups["by"]:
            return [key[groups["by"].index(name)] for key in found]
        wanted = next(v for v in groups["values"] if v["name"] == name)
        return [group_value(wanted, tides) for tides in found.values()]
    if not request["columns"]:
        return pa.RecordBatch.from_struct_array(pa.array([{}] * len(found), pa.struct([])))
    arrays = [pa.array(column(field.name), field.type) for field in schema]
    return pa.RecordBatch.from_arrays(arrays, schema=schema)


class CheckSecret(flight.ServerMiddlewareFactory):
    def __init__(self, secret):
        self.secret = secret

    def start_call(self, info, headers):
        given = {name.lower(): values for name, values in headers.items()}.get("authorization", [])
        if f"Bearer {self.secret}" not in given:
            raise flight.FlightUnauthenticatedError("the secret is not the right one" if given else "a secret is needed")


class TideTables(flight.FlightServerBase):
    def do_action(self, context, action):
        if action.type == "lane.v1.list":
            body = {"tables": [TABLE]}
        elif action.type == "lane.v1.offer":
            body = answer(json.loads(action.body.to_pybytes()))
        else:
            raise NotImplementedError(f"there is no action {action.type}")
        yield flight.Result(json.dumps(body).encode())

    def get_flight_info(self, context, descriptor):
        if descriptor.descriptor_type == flight.DescriptorType.PATH:
            if [part.decode() for part in descriptor.path] != [TABLE["schema"], TABLE["name"]]:
                raise KeyError("there is no such table")
            return flight.FlightInfo(SCHEMA, descriptor, [], PORTS * TIDES, -1)
        request = json.loads(descriptor.command)
        schema = answered(request)
        # Each group is to come once.
        portions = range(1 if request.get("groups") else PORTS // PORTS_OF_A_PORTION)
        tickets = [json.dumps({"request": request, "portion": portion}) for portion in portions]
        return flight.FlightInfo(schema, descriptor, [flight.FlightEndpoint(ticket, []) for ticket in tickets], -1, -1)

    def do_get(self, context, ticket):
        asked = json.loads(ticket.ticket)
        request, first = asked["request"], asked["portion"] * PORTS_OF_A_PORTION
        if request.get("groups"):
            return flight.GeneratorStream(answered(request), iter([grouped(request)]))
        columns = request["columns"]
        filters = [compile_condition(condition) for condition in request.get("filters", [])]
        schema = pa.schema([SCHEMA.field(name) for name in columns])

        def batches():
            left = request.get("limit", request["top"]["rows"] if "top" in request else sys.maxsize)
            some = []
            for tide in range(first * TIDES, min(first + PORTS_OF_A_PORTION, PORTS) * TIDES):
                if left == 0:
                    break
                if all(test(tide) is True for test in filters):
                    some.append(tide)
                    left -= 1
                if len(some) == ROWS_OF_A_BATCH:
                    yield batch(some)
                    some = []
            if some:
                yield batch(some)

        def batch(tides):
            if not columns:
                # The number of rows is all that is wanted.
                return pa.RecordBatch.from_struct_array(pa.array([{}] * len(tides), pa.struct([])))
            arrays = [pa.array([value(tide, name) for tide in tides], SCHEMA.field(name).type) for name in columns]
            return pa.RecordBatch.from_arrays(arrays, schema=schema)

        return flight.GeneratorStream(schema, batches())


if __name__ == "__main__":
    address = sys.argv[1] if len(sys.argv) > 1 else "127.0.0.1:7341"
    secret = os.environ.get("TIDE_TABLES_SECRET")
    server = TideTables(f"grpc+tcp://{address}", middleware={"secret": CheckSecret(secret)} if secret else None)
    print(f"tide tables at {address.rsplit(':', 1)[0]}:{server.port}", flush=True)
    server.serve()
