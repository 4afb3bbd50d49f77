"""Writes the ORC files of this folder: python3 make.py. Needs pyorc. Deliveries of the dairy, in small stripes."""

import datetime
import decimal

import pyorc

SCHEMA = (
    "struct<farm:string,litres:bigint,fat:double,fine:boolean,day:date,at:timestamp,worth:decimal(10,2),"
    "small:tinyint,ratio:float,tank:struct<name:varchar(9),degrees:int>,samples:array<int>>"
)


def row(n):
    """A row; each column is null now and then."""
    values = (
        f"F{n % 97:03}",
        n * n - 5000,
        n / 8,
        n % 3 == 0,
        datetime.date(2026, 1, 1) + datetime.timedelta(days=n % 400),
        datetime.datetime(2026, 1, 1, 6, 0) + datetime.timedelta(seconds=n * 61, microseconds=n % 1000),
        decimal.Decimal(n * 7 - 90) / 100,
        n % 100 - 50,
        n / 4,
        (f"T{n % 5}", n % 11 - 3),
        [n % 7, n % 3],
    )
    return tuple(None if (n + place) % 29 == 0 else value for place, value in enumerate(values))


def write(name, compression, rows, stripe):
    """Writes so many rows."""
    with open(name, "wb") as file:
        writer = pyorc.Writer(
            file, SCHEMA, compression=compression, stripe_size=stripe, row_index_stride=1000, batch_size=500
        )
        with writer:
            for n in range(rows):
                writer.write(row(n))


for kind in ["NONE", "ZLIB", "SNAPPY", "LZ4", "ZSTD"]:
    write(f"{kind.lower()}.orc", getattr(pyorc.CompressionKind, kind), 500, 1 << 20)
write("stripes.orc", pyorc.CompressionKind.NONE, 6000, 30000)
write("empty.orc", pyorc.CompressionKind.ZLIB, 0, 1 << 20)
