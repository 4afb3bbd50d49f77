"""Writes the Avro files that tests read, by fastavro: python3 make.py FOLDER; or reads one: python3 make.py --read FILE."""

import datetime
import decimal
import json
import sys
import uuid

import fastavro

DELIVERY = {
    "type": "record",
    "name": "Delivery",
    "namespace": "dairy",
    "doc": "A delivery of milk.",
    "fields": [
        {"name": "farm", "type": "string"},
        {"name": "litres", "type": ["null", "double"], "default": None},
        {"name": "loads", "type": "int"},
        {"name": "cells", "type": ["long", "null"]},
        {"name": "fat", "type": "float"},
        {"name": "good", "type": "boolean"},
        {"name": "day", "type": {"type": "int", "logicalType": "date"}},
        {"name": "at", "type": {"type": "long", "logicalType": "timestamp-micros"}},
        {"name": "began", "type": ["null", {"type": "long", "logicalType": "timestamp-millis"}]},
        {"name": "local", "type": {"type": "long", "logicalType": "local-timestamp-micros"}},
        {"name": "clock", "type": {"type": "int", "logicalType": "time-millis"}},
        {"name": "price", "type": {"type": "bytes", "logicalType": "decimal", "precision": 8, "scale": 2}},
        {"name": "grade", "type": {"type": "enum", "name": "Grade", "symbols": ["A", "B", "reject"]}},
        {"name": "raw", "type": "bytes"},
        {"name": "tanks", "type": {"type": "array", "items": ["null", "int"]}},
        {
            "name": "lab",
            "type": [
                "null",
                {
                    "type": "record",
                    "name": "Lab",
                    "fields": [{"name": "urea", "type": "int"}, {"name": "note", "type": ["null", "string"]}],
                },
            ],
        },
    ],
}

# The same table in an earlier form: fewer fields, in another order, narrower.
EARLIER = {
    "type": "record",
    "name": "Delivery",
    "fields": [
        {"name": "cells", "type": "int"},
        {"name": "farm", "type": "string"},
        {"name": "driver", "type": ["null", "string"]},
    ],
}

UTC = datetime.timezone.utc


def deliveries(count):
    for i in range(count):
        moment = datetime.datetime(2026, 1, 1, 6, 30, tzinfo=UTC) + datetime.timedelta(hours=i)
        yield {
            "farm": f"F{i % 7:03}",
            "litres": None if i % 5 == 4 else 100.5 + i,
            "loads": i % 4,
            "cells": None if i % 3 == 2 else i * 1000,
            "fat": 4.25,
            "good": i % 2 == 0,
            "day": moment.date(),
            "at": moment,
            "began": None if i % 4 == 3 else moment,
            "local": moment.replace(tzinfo=None),
            "clock": moment.time(),
            "price": decimal.Decimal(i) / 100,
            "grade": ["A", "B", "reject"][i % 3],
            "raw": bytes([i % 256, 0]),
            "tanks": [None if tank == 1 else tank for tank in range(i % 4)],
            "lab": None if i % 6 == 5 else {"urea": 20 + i, "note": None if i % 2 else "höher"},
        }


def write(folder):
    for codec in ["null", "deflate", "snappy", "zstandard", "bzip2", "xz"]:
        with open(f"{folder}/{codec}.avro", "wb") as out:
            fastavro.writer(out, DELIVERY, deliveries(60), codec=codec, sync_interval=900, sync_marker=b"milk" * 4)
    with open(f"{folder}/earlier.avro", "wb") as out:
        rows = [{"cells": 7, "farm": "F900", "driver": "Heron"}, {"cells": 8, "farm": "F901", "driver": None}]
        fastavro.writer(out, EARLIER, rows, sync_marker=b"milk" * 4)
    with open(f"{folder}/empty.avro", "wb") as out:
        fastavro.writer(out, EARLIER, [], sync_marker=b"milk" * 4)
    odd = {
        "type": "record",
        "name": "Odd",
        "fields": [
            {"name": "farm", "type": "string"},
            {"name": "either", "type": ["int", "string"]},
            {"name": "by_name", "type": {"type": "map", "values": "int"}},
            {"name": "key", "type": {"type": "string", "logicalType": "uuid"}},
        ],
    }
    rows = [{"farm": "F001", "either": 1, "by_name": {"a": 1}, "key": uuid.UUID(int=7)}]
    with open(f"{folder}/odd.avro", "wb") as out:
        fastavro.writer(out, odd, rows, sync_marker=b"milk" * 4)


def plain(value):
    if isinstance(value, dict):
        return {key: plain(part) for key, part in value.items()}
    if isinstance(value, list):
        return [plain(part) for part in value]
    if isinstance(value, bytes):
        return value.hex()
    return value if value is None or isinstance(value, (bool, int, float, str)) else str(value)


def read(path):
    with open(path, "rb") as file:
        for row in fastavro.reader(file):
            print(json.dumps(plain(row), ensure_ascii=False))


if sys.argv[1] == "--read":
    read(sys.argv[2])
else:
    write(sys.argv[1])
