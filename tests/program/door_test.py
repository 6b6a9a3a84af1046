#!/usr/bin/python3
"""What comes through the door: taken as it is meant, refused before anything is kept, or asked about."""
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
from harness import PROGRAM, SMALL, call, folder, good, rows, run_all
from osgeo import gdal

gdal.UseExceptions()
WORK = folder()
S = WORK / "s"


def prepare():
    good("new", S, "--crs", "EPSG:25833+5773")
    for sortie in ("grid", "cross"):
        good("admit", SMALL / "photos" / sortie, "--sortie", sortie, "-s", S)
    good("control", SMALL / "control.csv", "-s", S)
    good("sight", "--import", SMALL / "sightings.csv", "-s", S)
    for stage in ("tie", "orient", "sight", "adjust"):
        good(stage, "-s", S)


prepare()


def copied(name):
    shutil.copytree(S, WORK / name)
    return WORK / name


def test_lists_are_repeated_or_cut_by_commas():
    where = copied("lists")
    good("control", "--sigma", "K01=0.02", "--sigma", "K02=0.03:0.04", "--check", "K03", "--check", "K04", "-s", where)
    table = {r["id"]: r for r in rows(where / "inputs" / "control.csv")}
    assert float(table["K01"]["sigma_h"]) == 0.02 and float(table["K02"]["sigma_v"]) == 0.04
    assert table["K03"]["role"] == table["K04"]["role"] == "check"
    left = good("adjust", "--without", "P01", "--without", "P02,P03", "-s", where)
    assert {i["item"] for i in left["set_aside"]} == {"P01", "P02", "P03"}
    back = good("adjust", "--with", "P01", "--with", "P02", "-s", where)
    assert {i["item"] for i in back["set_aside"]} == {"P03"}
    good("control", "--remove", "P05", "--remove", "P06", "-s", where)
    assert not {"P05", "P06"} & {r["id"] for r in rows(where / "inputs" / "control.csv")}
    twice = call("adjust", "--as", "one", "--as", "two", "-s", where)
    assert twice.code == 2 and "given twice" in twice.last


def test_words_that_nobody_asked_for_are_refused():
    for words in (["adjust", "extra"], ["tie", "photos"], ["status", "all"], ["densify", "cloud.las"]):
        refused = call(*words, "-s", S)
        assert refused.code == 2 and f"takes no '{words[1]}'" in refused.last, refused.last
    for words, said in ((["--hold-out", "K99"], "no such control point"), (["--without", "K99"], "no such observation"), (["--with", "K01"], "was not left out")):
        refused = call("adjust", *words, "-s", S)
        assert refused.code == 3 and said in refused.last, refused.last
    for words in (["matches", "--pair", "G0002.jpg,nobody.jpg"], ["keypoints", "--image", "nobody.jpg"]):
        refused = call("export", *words, "-s", S)
        assert refused.code == 3 and "'nobody.jpg' is not in this survey" in refused.last, refused.last
    assert call("export", "matches", "--pair", "G0002.jpg", "--pair", "G0003.jpg", "-s", S).code == 0


def test_old_names_say_the_new_ones():
    for words, code, said in (
        (["tie", "--limit", "900", "-s", S], 2, "called --keypoints now"),
        (["tie", "--limit=900", "-s", S], 2, "called --keypoints now"),
        (["cloud", "info", "x.las"], 2, "called cloud describe now"),
        (["cloud", "clip", "x.las"], 2, "called cloud cut now"),
    ):
        refused = call(*words)
        assert refused.code == code and said in refused.last, refused.last


def test_small_sigmas_hold_and_do_not_lock_the_survey():
    where = copied("sigmas")
    good("control", "--sigma", "K01=0.000001", "-s", where)
    assert float({r["id"]: r for r in rows(where / "inputs" / "control.csv")}["K01"]["sigma_h"]) == 1e-6
    held = good("adjust", "-s", where)
    assert held["converged"]
    k01 = {r["id"]: r for r in rows(where / "results" / "control.csv")}["K01"]
    assert all(abs(float(k01[f"d_{a}"])) < 1e-4 for a in ("east", "north", "height")), k01
    less = call("control", "--sigma", "K01=0.0000001", "-s", where)
    assert less.code == 3 and "0.000001 m" in less.last, less.last
    text = (SMALL / "control.csv").read_text().splitlines()
    (WORK / "tiny.csv").write_text(text[0] + "\n" + text[1].rsplit(",", 2)[0] + ",1e-9,1e-9\n")
    refused = call("control", WORK / "tiny.csv", "-s", where)
    assert refused.code == 3 and "tiny.csv:2" in refused.last and "least that makes sense" in refused.last, refused.last
    assert call("adjust", "-s", where).code == 0
    # Sigmas of millimetres taken for metres are asked about.
    mm = "\n".join(["id,east,north,height,role,sigma_h,sigma_v", "Q1,431200000,6822400000,640000,control,10,15"])
    (WORK / "mm.csv").write_text(mm + "\n")
    asked = call("control", WORK / "mm.csv", "--units", "mm", "-s", where)
    assert asked.code == 3 and "sigmas are metres" in asked.last and "0.01" in asked.last, asked.last


def test_ties_with_a_bad_row_are_not_taken():
    where = copied("ties")
    for row, said in (("G0002.jpg,T1,1e9,5", "lies outside"), ("G0002.jpg,T1,here,5", "is not a number"), ("G0002.jpg,T1,5,5\nG0002.jpg,T1,6,6", "two places")):
        (WORK / "ties.csv").write_text(f"image,point,x,y\nG0002.jpg,T0,5,5\nG0003.jpg,T0,6,6\n{row}\n")
        refused = call("tie", "--import", WORK / "ties.csv", "-s", where)
        assert refused.code == 3 and said in refused.last, refused.last
        assert not (where / "inputs" / "ties.csv").exists()
    assert "(current)" in call("tie", "-s", where).out
    # A folder whose keypoints lie outside their photos leaves no trace either.
    (WORK / "pairs").mkdir()
    (WORK / "pairs" / "keypoints.csv").write_text("image,id,x,y\nG0002.jpg,1,5,5\nG0003.jpg,1,1e9,6\n")
    (WORK / "pairs" / "matches.csv").write_text("image_a,image_b,id_a,id_b\nG0002.jpg,G0003.jpg,1,1\n")
    refused = call("tie", "--import", WORK / "pairs", "-s", where)
    assert refused.code == 3 and "pairs" in refused.last, refused.last
    assert sorted(p.name for p in (where / "inputs").iterdir() if p.name.startswith("ties")) == []
    # One wrong row among many is left out and told; a file of wrong rows is another file.
    many = "".join(f"{image},T{i},{20 + 5 * i},{30 + i}\n" for i in range(30) for image in ("G0002.jpg", "G0003.jpg"))
    (WORK / "ties.csv").write_text("image,point,x,y\n" + many + "G0002.jpg,T99,1e9,5\n")
    taken = call("tie", "--import", WORK / "ties.csv", "--pairs", "none", "-s", where)
    assert taken.code == 0 and "1 row is left out" in taken.err + taken.out and "lies outside" in taken.err + taken.out, taken.err


def test_a_listing_that_does_not_fit_its_photos_is_not_taken():
    where = copied("wide")
    (WORK / "wide.json").write_text((SMALL / "truth" / "cameras.json").read_text().replace('"width": 480', '"width": 640'))
    refused = call("admit", "--listing", SMALL / "truth" / "stations.csv", "--cameras", WORK / "wide.json", "-s", where)
    assert refused.code == 3 and "correct cameras.json" in refused.last
    assert not (where / "inputs" / "listing.csv").exists() and call("admit", "-s", where).code == 0
    dropped = call("admit", "--drop", "*", "-s", where)
    assert dropped.code == 3 and not (where / "inputs" / "decisions.csv").exists() and call("admit", "-s", where).code == 0


def test_an_edited_system_is_noticed_by_every_stage():
    where = copied("zone")
    text = (where / "survey.toml").read_text().replace("EPSG:25833", "EPSG:25832")
    (where / "survey.toml").write_text(text)
    admitted = call("admit", "-s", where)
    assert admitted.code == 0 and "UTM zone there is EPSG:25833" in admitted.err, admitted.err
    for words in (["orient"], ["sight"], ["adjust"], ["densify"], ["report"], ["run"]):
        refused = call(*words, "-s", where)
        assert refused.code == 3 and "km from the photos" in refused.last and "EPSG:25833" in refused.last, (words, refused.last)
    good("control", SMALL / "control.csv", "--as-is", "-s", where)  # somebody insists
    assert call("orient", "-s", where).code == 0
    # Back again, the frame is the one of the system, and so is all that follows.
    (where / "survey.toml").write_text(text.replace("25832", "25833"))
    (where / "inputs" / "decisions.csv").unlink()
    good("admit", "-s", where)
    good("orient", "-s", where)
    assert abs(good("adjust", "-s", where)["check"]["rmse_east"] - good("adjust", "-s", S)["check"]["rmse_east"]) < 1e-3


def test_no_world_map_for_a_plan_and_any_case_for_a_code():
    for code in ("EPSG:3857", "epsg:3857", "EPSG:3395"):
        refused = call("new", WORK / "web", "--crs", code, "--heights", "plain")
        assert refused.code == 3 and "no metric plan" in refused.last and "UTM" in refused.last, refused.last
    assert not (WORK / "web").exists()
    listed = call("crs", "UTM", "zone")
    assert re.search(r"25 of \d+; --most", listed.out), listed.out[-300:]


def test_one_bad_photo_is_that_photo_s_reason():
    photos, where = WORK / "mixed", WORK / "mixed_survey"
    shutil.copytree(SMALL / "photos" / "grid", photos)
    # A model in Latin-1, a name that is no UTF-8, a size that no camera has.
    data = bytearray((photos / "G0002.jpg").read_bytes())
    at = data.index(b"Kestrel")
    data[at : at + 2] = b"\xe5\xff"
    (photos / "G0002.jpg").write_bytes(data)
    shutil.copy(photos / "G0003.jpg", os.fsencode(photos) + b"/bad\xff.jpg")
    gdal.GetDriverByName("GTiff").Create(str(photos / "huge.tif"), 60000, 60000, 1, gdal.GDT_Byte, ["SPARSE_OK=TRUE"]).FlushCache()
    good("new", where, "--crs", "EPSG:25833+5773")
    answer = good("admit", photos, "--sortie", "grid", "-s", where)
    reasons = {p["image"]: p["reason"] for p in answer["screened_out"]}
    assert "60000 x 60000" in reasons["huge.tif"] and "no UTF-8" in reasons["badÿ.jpg"], reasons
    assert "G0002.jpg" not in reasons and answer["photos"] == 11
    assert good("status", "-s", where)["stages"][0]["state"] == "current"
    # Photos that another sortie has stay there, and it is said.
    again = good("admit", photos, "--sortie", "second", "-s", where)
    assert any("of sortie grid already" in w["text"] for w in again["warnings"]), again["warnings"]


def test_a_pipe_is_no_photo():
    pipe = WORK / "pipe.jpg"
    os.mkfifo(pipe)
    refused = call("admit", pipe, "--sortie", "grid", "-s", S, timeout=20)
    assert refused.code == 3 and "neither a file nor a folder" in refused.last


def test_frames_of_twelve_bits_keep_their_greys():
    photos, where = WORK / "twelve", WORK / "twelve_survey"
    photos.mkdir()
    for path in sorted((SMALL / "photos" / "grid").iterdir()):
        grey = gdal.Open(str(path)).ReadAsArray().mean(axis=0)
        out = gdal.GetDriverByName("GTiff").Create(str(photos / (path.stem + ".tif")), grey.shape[1], grey.shape[0], 1, gdal.GDT_UInt16)
        out.GetRasterBand(1).WriteArray(np.round(grey * 16 + 4).astype(np.uint16))  # of 65,535 a sixteenth
        out.FlushCache()
        out = None  # closes the file
    good("new", where, "--crs", "EPSG:25833+5773")
    answer = good("admit", photos, "--sortie", "grid", "-s", where)
    assert {p["reason"] for p in answer["screened_out"]} <= {"blurred"}, answer["screened_out"]
    plain = WORK / "eight_survey"
    good("new", plain, "--crs", "EPSG:25833+5773")
    good("admit", SMALL / "photos" / "grid", "--sortie", "grid", "-s", plain)
    # All pairs for both: these frames carry no positions.
    wide, narrow = (good("tie", "--pairs", "all", "-s", s)["tie_points"] for s in (where, plain))
    assert wide > 0.8 * narrow, (wide, narrow)


def interrupted(words, times=1):
    """Starts a command and sends SIGINT a moment later, and again where asked: exit code, seconds until it ended."""
    process = subprocess.Popen([PROGRAM, *map(str, words)], stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
    listening = Path(f"/proc/{process.pid}/status")
    # The program listens once it catches SIGINT, the second bit of the mask.
    while process.poll() is None and not int(re.search(r"SigCgt:\s*(\w+)", listening.read_text())[1], 16) & 2:
        time.sleep(0.001)
    sent = time.monotonic()
    while times > 0 and process.poll() is None:
        process.send_signal(signal.SIGINT)
        times -= 1
        time.sleep(0.05)  # two signals at once are one
    return process.wait(timeout=60), time.monotonic() - sent


def test_an_interrupt_stops_at_the_next_item_and_a_second_at_once():
    where = copied("stopped")
    (where / "inputs" / "sightings.csv").unlink()
    before = {p: p.read_bytes() for p in (where / "inputs").iterdir()}
    shutil.rmtree(where / "store" / "keypoints")
    for words in (["tie", "--keypoints", 7000], ["densify", "--level", 0, "--force"], ["sight"], ["report"]):
        code, took = interrupted([*words, "-s", where])
        assert code in (130, 0) and took < 10, (words, code, took)  # 0: it had done all by then
    for words in (["densify", "--level", 0, "--min-views", 3, "--force"], ["tie", "--keypoints", 9000]):
        code, took = interrupted([*words, "-s", where], times=3)
        assert code == 130 and took < 2, (words, code, took)
    assert not list(where.rglob("*.part")) and {p: p.read_bytes() for p in (where / "inputs").iterdir()} == before
    good("tie", "-s", where)


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
