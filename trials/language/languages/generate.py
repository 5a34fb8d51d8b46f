import csv
import sys

table, header, module = sys.argv[1:]
rows = list(csv.DictReader(open(table)))
with open(header, "w") as f:
    f.writelines(f"#define {r['name']} {r['value']}\n" for r in rows)
with open(module, "w") as f:
    f.writelines(f"{r['name']} = {r['value']}\n" for r in rows)
