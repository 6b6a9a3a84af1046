#!/usr/bin/python3
"""Things that look a little like targets, where control says its targets are."""
import shutil
import sys

from harness import call, folder, good, rows, run_all

WORK = folder()


def test_road_markings_drains_and_window_bars_are_not_control():
    """They lie exactly where control says its targets are, so that nothing but their looks tells against them."""
    made, place = WORK / "decoys", WORK / "marked"
    assert call("simulate", made, "--photos", "14", "--size", "960x720", "--decoys", "--quiet").code == 0
    good("new", place, "--crs", "EPSG:25833+5773")
    for sortie in ("grid", "cross"):
        good("admit", made / "photos" / sortie, "--sortie", sortie, "-s", place)
    good("tie", "-s", place)
    good("orient", "-s", place)
    good("control", made / "control.csv", "-s", place)
    told = good("sight", "-s", place)
    assert told["found"] == 0 and any("no pattern" in w["text"] for w in told["warnings"]), told["warnings"]
    # With the block in place, every ellipse holds one of them and little else.
    lines = (made / "sightings.csv").read_text().splitlines()
    by_hand = [line for line in lines if line.split(",")[1] in ("K01", "K02", "K03", "K04", "K05")]
    (WORK / "by_hand.csv").write_text("\n".join([lines[0], *by_hand]) + "\n")
    told = good("sight", "--import", WORK / "by_hand.csv", "-s", place)
    others = [r for r in rows(place / "results" / "sightings.csv") if r["state"] == "found"]
    assert told["predicted"] > 100 and not others, others


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
