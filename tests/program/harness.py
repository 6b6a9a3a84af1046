"""Calls the built program as people do and reads what it says."""
import csv
import json
import subprocess
import sys
import time
import tempfile
from pathlib import Path

PROGRAM = sys.argv[1]
SMALL = Path(sys.argv[2])  # a small made-up survey with photos, made once a test run


class Result:
    def __init__(self, code, out, err):
        self.code, self.out, self.err = code, out, err

    @property
    def json(self):
        return json.loads(self.out)

    @property
    def last(self):
        lines = self.err.strip().splitlines()
        return lines[-1] if lines else ""


def call(*words, cwd=None, timeout=300):
    done = subprocess.run([PROGRAM, *map(str, words)], capture_output=True, text=True, cwd=cwd, timeout=timeout)
    return Result(done.returncode, done.stdout, done.stderr)


def good(*words, **options):
    """A call that must succeed, with --json: its object."""
    result = call(*words, "--json", "--quiet", **options)
    if result.code != 0:
        raise AssertionError(f"{' '.join(map(str, words))}: exit code {result.code}: {result.err}")
    answer = result.json
    assert answer["error"] is None and answer["command"] == words[0] and answer["seconds"] >= 0
    return answer


def folder():
    return Path(tempfile.mkdtemp(prefix="mesograph-test-"))


def items(survey, kind):
    """Finished items of a kind in a store: not what is being written just now."""
    return [path for path in survey.glob(f"store/{kind}/*") if path.suffix != ".part"]


def new_survey(where, *extra):
    """A survey of the small photos, admitted."""
    good("new", where, "--crs", "EPSG:25833+5773", *extra)
    for sortie in ("grid", "cross"):
        good("admit", SMALL / "photos" / sortie, "--sortie", sortie, "-s", where)
    return where


def adjusted_survey(where):
    """A survey of the small photos, adjusted by their control and the sightings that come with them."""
    new_survey(where)
    good("tie", "-s", where)
    good("orient", "-s", where)
    good("control", SMALL / "control.csv", "-s", where)
    good("sight", "--import", SMALL / "sightings.csv", "-s", where)
    good("adjust", "-s", where)
    return where


def rows(path):
    """The rows of a CSV as dictionaries, comment lines left out."""
    with open(path, encoding="utf-8") as file:
        return list(csv.DictReader(row for row in file if not row.startswith("#")))


def station_ratios(found, truth):
    """Errors of stations, axis by axis, over what is predicted of them, ascending."""
    true = {row["image"]: row for row in rows(truth)}
    columns = (("east", "sigma_h"), ("north", "sigma_h"), ("height", "sigma_v"))
    return sorted(
        abs(float(row[axis]) - float(true[row["image"]][axis])) / float(row[sigma])
        for row in rows(found)
        for axis, sigma in columns
    )


def run_all(module):
    """Runs every function test_* of a module in order and tells which failed."""
    failed = 0
    for name, test in list(vars(module).items()):
        if not name.startswith("test_"):
            continue
        began = time.monotonic()
        try:
            test()
            print(f"ok      {name} ({time.monotonic() - began:.1f} s)", flush=True)
        except Exception as error:  # a failed test must not hide the next one
            failed += 1
            print(f"FAILED  {name}: {type(error).__name__}: {error} (line {error.__traceback__.tb_next.tb_lineno})", flush=True)
    sys.exit(1 if failed else 0)
