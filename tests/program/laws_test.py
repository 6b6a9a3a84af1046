#!/usr/bin/python3
"""Laws of a whole survey: order and names change nothing, a wrong result is noticed, poor input is told in words."""
import csv
import os
import pty
import re
import resource
import select
import shutil
import signal
import struct
import subprocess
import sys
import time
from pathlib import Path

from harness import PROGRAM, SMALL, call, folder, good, items, rows, run_all

WORK = folder()
CHECKER = Path(__file__).resolve().parents[2] / "scripts" / "check-demo"
NUMBERS = ["stations.csv", "cameras.json", "control.csv", "checks.csv"]


def survey(name, sorties=("grid", "cross"), photos=SMALL / "photos", run=True):
    place = WORK / name
    good("new", place, "--crs", "EPSG:25833+5773", "--name", "law")
    for sortie in sorties:
        good("admit", photos / sortie, "--sortie", sortie, "-s", place)
    good("control", SMALL / "control.csv", "-s", place)
    good("sight", "--import", SMALL / "sightings.csv", "-s", place)
    if run:
        good("run", "-s", place)
    return place


def test_the_order_of_admission_changes_no_byte():
    first, second = survey("first"), survey("second", ("cross", "grid"))
    for name in NUMBERS + ["cloud.las", "photos.csv"]:
        assert (first / "results" / name).read_bytes() == (second / "results" / name).read_bytes(), name


def test_photos_elsewhere_give_the_same_numbers():
    """Another folder, another time stamp: only content counts."""
    shutil.copytree(SMALL / "photos", WORK / "copied")
    for path in (WORK / "copied").rglob("*.jpg"):
        os.utime(path, (1, 1))
    moved = survey("copied_survey", photos=WORK / "copied")
    for name in NUMBERS:
        assert (moved / "results" / name).read_bytes() == (WORK / "first" / "results" / name).read_bytes(), name


def test_more_control_does_not_worsen_and_a_false_one_is_named():
    place = survey("false", run=False)
    good("run", "-s", place)
    text = (SMALL / "control.csv").read_text().splitlines()
    changed = []
    for line in text:
        fields = line.split(",")
        if fields[0] == "K05":
            fields[3] = f"{float(fields[3]) + 0.5:.5f}"
        changed.append(",".join(fields))
    (WORK / "false.csv").write_text("\n".join(changed) + "\n")
    answer = good("control", WORK / "false.csv", "-s", place)
    assert any("replaced: K05" in w["text"] for w in answer["warnings"])
    adjusted = good("adjust", "-s", place)
    worst = max(adjusted["suspects"], key=lambda s: abs(s["w"]))
    assert worst["id"] == "K05" and worst["kind"] == "control" and worst["component"] == "height", worst
    assert abs(worst["size"] - 0.5) < 0.2, worst
    good("report", "-s", place)
    assert "K05" in (place / "results" / "report.html").read_text().split("Overview")[0], "not among the notes"


def damaged(name, change):
    """check-demo on a copy of good results that were changed."""
    place = WORK / f"damaged_{name}"
    shutil.copytree(WORK / "first" / "results", place / "results")
    change(place / "results")
    done = subprocess.run([CHECKER, place, SMALL, "--stations", "10"], capture_output=True, text=True)
    shutil.rmtree(place)
    return done


def test_the_checker_notices_what_is_wrong():
    assert damaged("not", lambda results: None).returncode == 0

    def shift_stations(results):
        table = rows(results / "stations.csv")
        for row in table:
            row["kappa"] = f"{float(row['kappa']) + 1.0:.8f}"
        with open(results / "stations.csv", "w", encoding="utf-8") as out:
            writer = csv.DictWriter(out, table[0].keys())
            writer.writeheader()
            writer.writerows(table)

    turned = damaged("stations", shift_stations)
    assert turned.returncode == 1 and re.search(r"median miss .*MISSED", turned.stdout), turned.stdout

    def raise_cloud(results):
        data = bytearray((results / "cloud.las").read_bytes())
        for at in (155 + 16, 179 + 32, 179 + 40):  # offset z, and the bounds that go with it
            struct.pack_into("<d", data, at, struct.unpack_from("<d", data, at)[0] + 0.5)
        (results / "cloud.las").write_bytes(data)

    raised = damaged("cloud", raise_cloud)
    assert raised.returncode == 1 and re.search(r"absolute height error .*MISSED", raised.stdout), raised.stdout

    def halve_cloud(results):
        data = (results / "cloud.las").read_bytes()
        offset, length = struct.unpack_from("<I", data, 96)[0], struct.unpack_from("<H", data, 105)[0]
        count = struct.unpack_from("<Q", data, 247)[0]
        points = b"".join(data[offset + i * length : offset + (i + 1) * length] for i in range(0, count, 4))
        head = bytearray(data[:offset])
        struct.pack_into("<Q", head, 247, len(points) // length)
        (results / "cloud.las").write_bytes(bytes(head) + points)

    thinned = damaged("thin", halve_cloud)
    assert thinned.returncode == 1 and ("covered" in thinned.stdout or "assert" in thinned.stderr), thinned.stdout


def test_sorties_that_do_not_overlap_leave_the_smaller_out():
    """Photos of the one flight far from the other: nothing joins them; the rest is oriented, and said."""
    photos = WORK / "apart"
    shutil.copytree(SMALL / "photos" / "grid", photos / "grid")
    (photos / "cross").mkdir()
    # A second made-up site has other ground altogether.
    other = WORK / "other_site"
    call("simulate", other, "--photos", "9", "--size", "480x360", "--seed", "77", "--quiet")
    for path in sorted((other / "photos" / "cross").iterdir()):
        shutil.copy(path, photos / "cross" / f"X{path.name}")
    place = WORK / "apart_survey"
    good("new", place, "--crs", "EPSG:25833+5773")
    for sortie in ("grid", "cross"):
        good("admit", photos / sortie, "--sortie", sortie, "-s", place)
    good("tie", "-s", place)
    answer = good("orient", "-s", place)
    left = {n["image"] for n in answer["not_oriented"]}
    assert left and all(image.startswith("XC") for image in left), answer
    assert all(n["reason"] for n in answer["not_oriented"])
    assert any("could not be oriented" in w["text"] for w in answer["warnings"])


def test_one_photo_and_the_same_photo_twice():
    place = WORK / "single"
    (WORK / "one").mkdir()
    shutil.copy(SMALL / "photos" / "grid" / "G0001.jpg", WORK / "one" / "a.jpg")
    shutil.copy(SMALL / "photos" / "grid" / "G0001.jpg", WORK / "one" / "b.jpg")
    good("new", place, "--crs", "EPSG:25833+5773")
    admitted = good("admit", WORK / "one", "--sortie", "one", "-s", place)
    assert admitted["photos"] == 2
    assert [(p["image"], p["reason"]) for p in admitted["screened_out"]] == [("b.jpg", "a copy of a.jpg")]
    assert any("only one photo takes part" in w["text"] for w in admitted["warnings"])
    refused = call("tie", "-s", place)
    assert refused.code == 3 and "only one photo takes part (a.jpg)" in refused.last, refused.last


def test_tolerances_are_watched():
    place = WORK / "first"
    settings = place / "survey.toml"
    before = settings.read_text()
    settings.write_text(before + "\n[tolerance]\ncheck_rmse_h = 0.001\ncheck_rmse_v = 0.001\nimage_rms_px = 0.01\noriented_share = 1.0\n")
    shutil.rmtree(place / "store")
    answer = good("run", "-s", place)
    said = " ".join(w["text"] for w in answer["warnings"])
    for words in ("reprojection rms", "horizontal RMSE of the checks", "height RMSE of the checks"):
        assert words in said, said
    assert "photos oriented is below" not in said
    settings.write_text(before)
    assert "tolerance" not in str(good("run", "-s", place)["warnings"])


def test_a_terminal_shows_a_bar_that_moves_and_ends():
    place = WORK / "terminal"
    good("new", place, "--crs", "EPSG:25833+5773")
    master, slave = pty.openpty()
    process = subprocess.Popen([PROGRAM, "admit", SMALL / "photos" / "grid", "--sortie", "grid", "-s", place], stderr=slave, stdout=subprocess.DEVNULL)
    os.close(slave)
    shown = b""
    while True:
        ready, _, _ = select.select([master], [], [], 30)
        try:
            piece = os.read(master, 4096) if ready else b""
        except OSError:
            break
        if not piece:
            break
        shown += piece
    assert process.wait() == 0
    text = shown.decode()
    assert "examining photos" in text and "0/9" in text and re.search(r"\[=+\] 9 in [0-9.]+ s", text), text


def test_a_disk_that_fills_while_the_cloud_is_written():
    place = WORK / "first"
    cloud = (place / "results" / "cloud.las").read_bytes()

    def refuse():
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (len(cloud) // 2, len(cloud) // 2))

    done = subprocess.run([PROGRAM, "densify", "--min-views", "3", "-s", place, "--quiet"], capture_output=True, text=True, preexec_fn=refuse)
    assert done.returncode == 3 and "cloud.las: cannot be written" in done.stderr, done.stderr
    assert (place / "results" / "cloud.las").read_bytes() == cloud, "the old cloud is gone"
    assert not list(place.rglob("*.part"))


def test_densify_stopped_and_taken_up_again():
    place = WORK / "second"
    for kind in ("depth", "points"):
        shutil.rmtree(place / "store" / kind)
    cloud = (place / "results" / "cloud.las").read_bytes()
    (place / "results" / "cloud.las").unlink()
    process = subprocess.Popen([PROGRAM, "densify", "-s", place, "--quiet", "--threads", "1"], stderr=subprocess.DEVNULL)
    until = time.time() + 60
    while time.time() < until and len(items(place, "depth")) < 2:
        time.sleep(0.01)
    process.kill()
    process.wait()
    kept = {p: p.stat().st_mtime_ns for p in items(place, "depth")}
    assert len(kept) >= 2 and not (place / "results" / "cloud.las").exists()
    good("densify", "-s", place)
    assert all(p.stat().st_mtime_ns == stamp for p, stamp in kept.items())
    assert (place / "results" / "cloud.las").read_bytes() == cloud


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
