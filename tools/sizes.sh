#!/usr/bin/env bash
# Fail where a tracked file is larger than 1 MB, or is data or a build product.
set -euo pipefail
cd "$(dirname "$0")/.."
wrong=$(git ls-files -z | while IFS= read -r -d '' file; do
  [ -f "$file" ] || continue
  size=$(wc -c <"$file")
  [ "$size" -le 1000000 ] || echo "$file has $size bytes; at most 1,000,000 are tracked"
  case $file in *.whl | *.tar.gz | *.parquet) echo "$file is a build product or data" ;; esac
done)
[ -z "$wrong" ] || { echo "$wrong" >&2; exit 1; }
