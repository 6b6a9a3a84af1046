#!/usr/bin/python3
"""The script that checks the plan of the rooms: it passes what is here, and finds what is planted."""
import subprocess
import sys
from pathlib import Path

from harness import folder, run_all

ROOT = Path(__file__).resolve().parents[2]
WORK = folder()


def check(files):
    """Exit code and words of the script on a core of these files: {"room/unit.hpp": [what it includes]}."""
    core = WORK / str(len(list(WORK.iterdir())))
    for name, included in files.items():
        path = core / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text("".join(f"#include <mesograph/{other}>\n" for other in included))
    ran = subprocess.run([ROOT / "scripts" / "check-rings", core], capture_output=True, text=True)
    return ran.returncode, ran.stdout


def test_the_core_keeps_its_plan():
    ran = subprocess.run([ROOT / "scripts" / "check-rings"], capture_output=True, text=True)
    assert ran.returncode == 0, ran.stdout


def test_what_breaks_the_plan_is_named():
    sound = {"base/files.hpp": [], "geo/crs.hpp": ["base/files.hpp"], "geo/crs.cpp": ["geo/crs.hpp"]}
    assert check(sound)[0] == 0
    code, words = check(sound | {"base/files.cpp": ["geo/crs.hpp"]})
    assert code == 1 and "base may not include geo" in words and "files.cpp:1" in words
    code, words = check(sound | {"dense/a.hpp": ["cloud/b.hpp"], "cloud/b.hpp": []})
    assert code == 1 and "dense may not include cloud" in words  # side by side
    assert "simulate" in check(sound | {"report/a.hpp": ["simulate/b.hpp"], "simulate/b.hpp": []})[1]
    # A unit is a header and its source: a circle may close through either.
    code, words = check(sound | {"geo/frame.hpp": ["geo/crs.hpp"], "geo/crs.cpp": ["geo/crs.hpp", "geo/frame.hpp"]})
    assert code == 1 and words == "circle: geo/crs -> geo/frame -> geo/crs\n", words
    assert "has no place" in check({"kitchen/sink.hpp": []})[1]


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
