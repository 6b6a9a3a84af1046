#!/usr/bin/env python3
"""Photos from anywhere and tie points of every origin, by the built program: usage as in harness.py."""
import shutil
import struct
import subprocess
import sys
from pathlib import Path

from harness import SMALL, call, folder, good, new_survey, rows, run_all

WORK = folder()


def stripped(source, target):
    """A JPEG without its APP1 and APP2 segments: nothing is known of where, when and by what it was taken."""
    data, out, at = source.read_bytes(), bytearray(b"\xff\xd8"), 2
    while data[at + 1] != 0xDA:
        length = struct.unpack_from(">H", data, at + 2)[0] + 2
        if data[at + 1] not in (0xE1, 0xE2):
            out += data[at : at + length]
        at += length
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_bytes(bytes(out) + data[at:])


def share_right(place):
    """Percent of the tie observations within 1.5 px of truth."""
    checker = Path(__file__).resolve().parents[2] / "scripts" / "check-ties"
    done = subprocess.run([checker, place / "results" / "ties.csv", SMALL], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return float(done.stdout.split("within 1.5 px of truth")[1].split("%")[0])


def test_two_photos_that_nothing_is_known_of():
    images = sorted((SMALL / "photos" / "grid").iterdir())[:2]
    for image in images:
        stripped(image, WORK / "bare" / image.name)
    place = WORK / "two"
    good("new", place, "--crs", "local")
    admitted = good("admit", WORK / "bare", "--sortie", "found", "-s", place)
    assert any("is a guess" in w["text"] for w in admitted["warnings"]), admitted["warnings"]
    tied = good("tie", "-s", place)
    assert tied["pairs_verified"] == 1 and tied["tie_points"] > 50, tied
    good("export", "ties", "-s", place)
    assert share_right(place) > 97
    names = ",".join(i.name for i in images)
    drawn = good("export", "matches", "--pair", names, "--figure", "-s", place)
    png = Path(drawn["files"][0]).read_bytes()
    assert png[:8] == b"\x89PNG\r\n\x1a\n" and struct.unpack(">II", png[16:24])[0] > 900
    for figure in ("pairs.png", "rays.png"):
        assert (place / "results" / "figures" / figure).exists()
    exported = good("export", "matches", "--pair", names, "-s", place)
    assert exported["rows"] >= tied["tie_points"]


def test_photos_of_unknown_place_are_paired_by_what_they_show():
    for image in sorted((SMALL / "photos" / "grid").iterdir()):
        stripped(image, WORK / "unplaced" / image.name)
    place = WORK / "similar"
    good("new", place, "--crs", "local")
    good("admit", WORK / "unplaced", "--sortie", "found", "-s", place)
    by_likeness = good("tie", "--pairs", "similar", "-s", place)
    everything = good("tie", "--pairs", "all", "-s", place)
    assert by_likeness["tie_points"] == everything["tie_points"]  # few photos: all pairs either way
    none = call("tie", "--pairs", "none", "-s", place)
    assert none.code == 3 and "no two photos match" in none.last


def test_imported_ties_stand_beside_those_that_are_found():
    place = new_survey(WORK / "mixed")
    found = good("tie", "-s", place)
    good("export", "ties", "-s", place)
    first = rows(place / "results" / "ties.csv")
    by_hand = WORK / "by_hand.csv"
    point = [r for r in first if r["point"] == first[0]["point"]]
    with open(by_hand, "w", encoding="utf-8") as out:
        out.write("image,point,x,y,sigma\n")
        out.writelines(f"{r['image']},manhole,{r['x']},{r['y']},0.2\n" for r in point)
    both = good("tie", "--import", by_hand, "-s", place)
    assert both["tie_points"] == found["tie_points"] + 1
    only = good("tie", "--pairs", "none", "-s", place)
    assert only["tie_points"] == 1 and only["mean_rays"] == len(point)
    # Two places of one point in one photo cannot both be.
    with open(by_hand, "a", encoding="utf-8") as out:
        out.write(f"{point[0]['image']},manhole,1,1,\n")
    refused = call("tie", "--import", by_hand, "-s", place)
    assert refused.code == 3 and "manhole" in refused.last and "two places" in refused.last, refused.last

    # Keypoints and matches from a folder give the points that they were exported from.
    (place / "inputs" / "ties.csv").unlink()
    good("tie", "-s", place)
    exchange = WORK / "exchange"
    exchange.mkdir()
    for what in ("keypoints", "matches"):
        good("export", what, "--out", exchange / f"{what}.csv", "-s", place)
    joined = good("tie", "--import", exchange, "--pairs", "none", "-s", place)
    assert joined["tie_points"] == found["tie_points"] and joined["mean_rays"] == found["mean_rays"], (joined, found)


def test_processed_positions_replace_geotags():
    place = new_survey(WORK / "placed")
    stations = {r["image"]: r for r in rows(SMALL / "truth" / "stations.csv")}
    table = WORK / "positions.csv"
    with open(table, "w", encoding="utf-8") as out:
        out.write("name,e,n,h,s\n")
        out.writelines(f"{i},{r['east']},{r['north']},{r['height']},0.02\n" for i, r in stations.items())
    answer = good("admit", "--positions", table, "--columns", "image=name,east=e,north=n,height=h,sigma_h=s,sigma_v=s", "-s", place)
    assert any("placed by their name" in w["text"] for w in answer["warnings"]), answer["warnings"]
    good("tie", "-s", place)
    good("orient", "-s", place)
    good("adjust", "-s", place)  # no control at all: the positions carry the block
    for row in rows(place / "results" / "stations.csv"):
        true = stations[row["image"]]
        off = [float(row[a]) - float(true[a]) for a in ("east", "north", "height")]
        assert max(map(abs, off)) < 0.1, (row["image"], off)  # five times the stated 0.02 m, offset of the sortie included
    wrong = call("admit", "--positions", table, "-s", place)
    assert wrong.code == 3 and "image nor a time column" in wrong.last, wrong.last


def test_the_map_and_the_sheet_of_photos_left_out_are_drawn_and_taken_away():
    place = new_survey(WORK / "mapped")
    for figure in ("photos.png", "screened.png"):
        assert (place / "results" / "figures" / figure).read_bytes()[:4] == b"\x89PNG"
    answer = good("admit", "--keep", "*", "-s", place)
    assert answer["screened_out"] == [] and not (place / "results" / "figures" / "screened.png").exists()


def test_a_walk_in_one_place_has_no_positions_worth_the_name():
    """All geotags within their noise: said, not used; the block is oriented from control alone or says what it needs."""
    place = new_survey(WORK / "walk")
    table = WORK / "walk.csv"
    with open(table, "w", encoding="utf-8") as out:
        out.write("image,longitude,latitude,height\n")
        for k, image in enumerate(sorted((SMALL / "photos" / "grid").iterdir())):
            out.write(f"{image.name},{13.7 + 1e-5 * (k % 3 - 1):.7f},{61.5 + 1e-5 * (k % 2):.7f},700\n")
    answer = good("admit", "--positions", table, "-s", place)
    assert any("within their own noise" in w["text"] for w in answer["warnings"]), answer["warnings"]


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
