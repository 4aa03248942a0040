"""Which ending stands for which format."""

from __future__ import annotations

DELIMITED = {".csv": ",", ".txt": ",", ".tsv": "\t", ".tab": "\t"}
WORKBOOKS = (".xlsx", ".xlsm", ".xlsb", ".xls", ".ods")
COLUMNAR = (".parquet", ".arrow", ".feather")
JSON, JSON_LINES = ".json", (".jsonl", ".ndjson")
DATABASES = (".sqlite", ".sqlite3", ".db")
HISTORY = ".history.jsonl"  # beside a plan; in a folder of sources it is none of them
READABLE = (*DELIMITED, *WORKBOOKS, *COLUMNAR, JSON, *JSON_LINES, *DATABASES)
WRITABLE = (
    ".csv", ".tsv", ".tab", ".parquet", ".arrow", ".feather",
    JSON, *JSON_LINES, ".xlsx", *DATABASES,
)  # fmt: skip
