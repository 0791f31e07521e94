"""The questions of the guide, asked of another SQL engine, over the pairs that `bastide matrix --all --reasons` writes as Parquet.

The answers have to be those of `bastide-sql`, row by row. Usage: other_engine.py BASTIDE BASTIDE_SQL PAGE
"""

import csv
import io
import re
import subprocess
import sys
import tempfile
from pathlib import Path

import duckdb

DAY = "2026-11-24"
SCALE = ["open", "internal", "restricted", "sealed"]


def run(*args, cwd=None):
    done = subprocess.run([str(a) for a in args], cwd=cwd, capture_output=True, text=True)
    if done.returncode != 0:
        sys.exit(f"{' '.join(map(str, args))}: {done.stderr}")
    return done.stdout


def text(value):
    """A cell as CSV has it."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value)


def main():
    bastide, bastide_sql, page = map(Path, sys.argv[1:])
    bastide, bastide_sql = bastide.resolve(), bastide_sql.resolve()
    questions = re.findall(r"```sql\n(.*?)```", page.read_text(encoding="utf-8"), re.S)
    with tempfile.TemporaryDirectory() as folder:
        estate = Path(folder) / "demo"
        run(bastide, "demo", "--no-tour", estate)
        run(bastide, "-q", "matrix", "--all", "--reasons", "--format", "parquet", "-o", "pairs.parquet", "--on", DAY, cwd=estate)
        ask = [bastide_sql, "--estate", estate, "--on", DAY]
        for table in ["users", "resources", "memberships"]:
            run(*ask, "--format", "parquet", "-o", estate / f"{table}.parquet", f"select * from {table}")
        other = duckdb.connect()
        for table in ["users", "resources", "memberships"]:
            other.execute(f"create view {table} as select * from '{estate}/{table}.parquet'")
        # The pairs do not say the kind; of an action without a meaning no statement is told by an empty text.
        other.execute(
            f"create view access as select a.* replace (nullif(a.statement, '') as statement), r.kind "
            f"from '{estate}/pairs.parquet' a join resources r on a.resource = r.id"
        )
        other.execute(f"create macro step(word) as list_position({SCALE!r}, word)")
        other.execute("create macro label_at_least(value, word) as step(value) >= step(word)")
        other.execute(
            "create macro under(id_of, place) as "
            "(select path = place or starts_with(path, place || '/') from resources where id = id_of)"
        )
        for number, question in enumerate(questions, 1):
            ours = list(csv.reader(io.StringIO(run(*ask, "--format", "csv", "--", question))))[1:]
            # There `user` is a function unless it stands in quotes.
            quoted = re.sub(r"(?<![\w\"'])user(?![\w\"'(])", '"user"', question)
            theirs = [[text(cell) for cell in row] for row in other.execute(quoted).fetchall()]
            if ours != theirs:
                sys.exit(f"question {number} has two answers:\n{question}\nhere {ours}\nthere {theirs}")
            print(f"question {number}: {len(ours)} rows, the same")
    if len(questions) != 10:
        sys.exit(f"the guide has {len(questions)} questions")


if __name__ == "__main__":
    main()
