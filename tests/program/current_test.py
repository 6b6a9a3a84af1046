#!/usr/bin/python3
"""What is current and what is not: one truth, told by status, by the commands and by run; and what was computed stays."""
import fcntl
import shutil
import subprocess
import sys
from pathlib import Path

from harness import PROGRAM, SMALL, call, folder, good, items, rows, run_all

WORK = folder()
S = WORK / "s"
PHOTOS = WORK / "photos"


def state(where=S):
    return {s["name"]: (s["state"], s["reason"]) for s in good("status", "-s", where)["stages"]}


def settings(where, text):
    """survey.toml with more at its end; what stood there before."""
    before = (where / "survey.toml").read_text()
    (where / "survey.toml").write_text(before + text)
    return before


def prepare():
    shutil.copytree(SMALL / "photos", PHOTOS)
    good("new", S, "--crs", "epsg:25833+5773")  # small letters will do
    for sortie in ("grid", "cross"):
        good("admit", PHOTOS / sortie, "--sortie", sortie, "-s", S)
    good("control", SMALL / "control.csv", "-s", S)
    good("sight", "--import", SMALL / "sightings.csv", "-s", S)
    good("run", "-s", S)


prepare()


def test_results_that_are_gone_cut_or_replaced_are_made_again_and_nothing_else():
    assert good("status", "-s", S)["next"] == "", state()
    cloud = (S / "results" / "cloud.las").read_bytes()
    (S / "results" / "cloud.las").write_bytes(cloud[: len(cloud) // 2])
    (S / "results" / "cameras.json").write_text("")
    (S / "results" / "figures" / "pairs.png").unlink()
    found = state()
    assert "cloud.las has been changed" in found["densify"][1] and "cameras.json has been changed" in found["adjust"][1]
    assert "pairs.png is gone" in found["tie"][1] and found["orient"][0] == found["report"][0] == "current"
    did = {name: made["did"] for name, made in good("run", "-s", S).items() if isinstance(made, dict) and "did" in made}
    assert {name for name in ("tie", "orient", "sight", "adjust", "densify", "report") if did[name] == "made"} == {"tie", "adjust", "densify"}, did
    assert (S / "results" / "cloud.las").read_bytes() == cloud and good("status", "-s", S)["next"] == ""
    shutil.rmtree(S / "results")
    assert good("status", "-s", S)["next"] == "mesograph run"
    good("run", "-s", S)
    assert (S / "results" / "cloud.las").read_bytes() == cloud


def test_a_replaced_photo_and_photos_that_came_later_are_noticed():
    photo = PHOTOS / "grid" / "G0002.jpg"
    whole = photo.read_bytes()
    photo.write_bytes(whole[:-2] + b"xx")  # as large as before
    assert "G0002.jpg has been changed" in state()["admit"][1] and state()["densify"][0] == "out of date"
    told = call("densify", "-s", S)
    assert told.code == 0 and "(current)" not in told.out and "admit is out of date" in told.err, (told.out, told.err)
    told = call("report", "-s", S)
    assert "(current)" not in told.out and "admit is out of date" in told.err
    photo.write_bytes(whole)
    assert state()["admit"][0] == "current"
    shutil.copy(SMALL / "photos" / "grid" / "G0003.jpg", PHOTOS / "grid" / "late.jpg")
    assert "1 more photos" in state()["admit"][1]
    (PHOTOS / "grid" / "late.jpg").unlink()


def test_without_its_store_a_survey_is_run_again():
    where = WORK / "bare"
    shutil.copytree(S, where)
    shutil.rmtree(where / "store")
    assert good("status", "-s", where)["next"] == "mesograph run"
    assert "now: mesograph" not in call("status", "-s", where).out


def test_readers_need_no_lock():
    with open(S / "store" / "lock", "r+b") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        for words in (["status"], ["export", "stations", "--out", "-"], ["measure", "K01", "K02"]):
            assert call(*words, "-s", S).code == 0, words
        held = call("adjust", "-s", S)
        assert held.code == 3 and "another mesograph command" in held.last


def test_moved_photos_keep_everything_that_was_computed():
    maps = {p.name: p.stat().st_mtime_ns for p in items(S, "depth")}
    PHOTOS.rename(WORK / "moved")
    assert "is not where it was" in state()["admit"][1]
    good("admit", "--photos", WORK / "moved", "-s", S)
    assert all(s[0] == "current" for s in state().values()), state()
    assert {p.name: p.stat().st_mtime_ns for p in items(S, "depth")} == maps


def test_depth_maps_outlive_trials_until_told_otherwise():
    maps = {p.name: p.stat().st_mtime_ns for p in items(S, "depth")}
    cloud = (S / "results" / "cloud.las").read_bytes()
    good("densify", "--test-patch", "-s", S)
    good("densify", "--level", 2, "-s", S)
    good("densify", "--only", "grid", "--out", WORK / "grid.las", "-s", S)
    now = {p.name: p.stat().st_mtime_ns for p in items(S, "depth")}
    assert all(now.get(name) == stamp for name, stamp in maps.items()) and len(now) > len(maps)
    good("densify", "-s", S)
    assert {p.name: p.stat().st_mtime_ns for p in items(S, "depth")} == now
    assert (S / "results" / "cloud.las").read_bytes() == cloud
    told = good("densify", "--sweep", "-s", S)
    assert {p.name for p in items(S, "depth")} == set(maps) and any("are removed" in w["text"] for w in told["warnings"])
    # A limit on the disk that holds this cloud alone needs the room of the others.
    stored = lambda: sum(p.stat().st_size for kind in ("depth", "points") for p in items(S, kind))
    alone = stored()
    good("densify", "--level", 2, "--out", WORK / "coarse.las", "-s", S)
    assert stored() > 1.02 * alone
    good("densify", "--disk", 1.01 * alone / 1e9, "--out", WORK / "again.las", "-s", S)
    assert stored() == alone
    assert (WORK / "again.las").read_bytes() == cloud
    good("densify", "-s", S)


def test_tiles_are_told_as_their_folder_and_leave_no_other_cloud():
    tiled = good("densify", "--tiles", 50, "-s", S)
    assert tiled["file"] == "results/cloud" and (S / "results" / "cloud" / "index.csv").exists()
    assert not (S / "results" / "cloud.las").exists() and any("earlier settings" in w["text"] for w in tiled["warnings"])
    (S / "results" / "cloud.las").write_bytes(b"somebody's own")
    good("densify", "--tiles", 60, "-s", S)
    assert (S / "results" / "cloud.las").read_bytes() == b"somebody's own"
    good("densify", "-s", S)
    (S / "results" / "cloud.las").write_bytes((S / "results" / "cloud.las").read_bytes() + b"x")  # touched since
    good("densify", "--tiles", 50, "-s", S)
    assert (S / "results" / "cloud.las").exists()
    good("densify", "-s", S)


def test_names_of_metadata_added_later_are_looked_for():
    where = WORK / "names"
    good("new", where, "--crs", "EPSG:25833+5773")
    good("admit", WORK / "moved" / "grid", "--sortie", "grid", "-s", where)
    settings(where, '\n[metadata]\nsigma_h = ["CameraRoll"]\n')
    assert "[metadata]" in state(where)["admit"][1]
    good("admit", "-s", where)
    rolls = [r["sigma_h"] for r in (good("export", "photos", "-s", where), rows(where / "results" / "photos.csv"))[1]]
    assert any(rolls), "what a photo carries under that name is its sigma now"


def listed_survey():
    """Adjusted from a listing, without orient: what [sortie] and [tie] say counts here too."""
    where = WORK / "listed"
    bad = {r["image"] for r in rows(SMALL / "truth" / "bad_photos.csv")}
    kept = [r for r in rows(SMALL / "truth" / "stations.csv") if r["image"] not in bad]
    (WORK / "listing.csv").write_text(",".join(kept[0]) + "\n" + "".join(",".join(r.values()) + "\n" for r in kept))
    good("new", where, "--crs", "EPSG:25833+5773")
    for sortie in ("grid", "cross"):
        good("admit", WORK / "moved" / sortie, "--sortie", sortie, "-s", where)
    good("admit", "--listing", WORK / "listing.csv", "--cameras", SMALL / "truth" / "cameras.json", "-s", where)
    good("tie", "-s", where)
    good("control", SMALL / "control.csv", "-s", where)
    good("sight", "--import", SMALL / "sightings.csv", "-s", where)
    good("adjust", "-s", where)
    return where


def test_settings_of_sorties_make_a_listing_adjusted_anew():
    where = listed_survey()
    assert "(current)" in call("adjust", "-s", where).out
    for text in ("[sortie.grid]\nsigma_photo = [0.5, 0.7]\n", "[sortie.grid]\nlever_arm = [0.1, 0, 0.4]\n", "[tie]\nsigma_px = 0.7\n"):
        before = settings(where, "\n" + text)
        assert "(current)" not in call("adjust", "-s", where).out, text
        (where / "survey.toml").write_text(before)
        good("adjust", "-s", where)


def test_scale_bars_count_in_what_is_predicted_after_the_adjustment():
    where = WORK / "bars"
    shutil.copytree(S, where)
    # Without any sigma to speak of, positions and control leave the scale open; one taped length closes it.
    settings(where, "\n[control]\nsigma_h = 2.0\nsigma_v = 2.0\n[sortie.grid]\nsigma_photo = [3, 5]\n[sortie.cross]\nsigma_photo = [3, 5]\n")
    good("control", "--sigma", "K*=2", "-s", where)
    good("adjust", "-s", where)
    open_sigma = good("measure", "K03", "K04", "-s", where)["sigma_slope"]
    control = {r["id"]: [float(r[a]) for a in ("east", "north", "height")] for r in rows(SMALL / "control.csv")}
    length = sum((a - b) ** 2 for a, b in zip(control["K01"], control["K02"])) ** 0.5
    (WORK / "bars.csv").write_text(f"id,a,b,length,sigma\nB1,K01,K02,{length:.4f},0.001\n")
    good("control", "--scalebars", WORK / "bars.csv", "-s", where)
    good("adjust", "-s", where)
    closed = good("measure", "K03", "K04", "-s", where)["sigma_slope"]
    assert closed < 0.5 * open_sigma, (closed, open_sigma)
    of_points = [float(r["sigma_east"]) for r in (good("export", "points", "-s", where), rows(where / "results" / "points.csv"))[1] if r["sigma_east"]]
    assert of_points and min(of_points) > 0


def test_points_measured_by_hand_stand_in_a_table_with_their_sigmas():
    where = WORK / "hand"
    shutil.copytree(S, where)
    text = ["image,point,x,y"] + [f"{r['image']},corner,{r['x']},{r['y']}" for r in rows(SMALL / "sightings.csv") if r["point"] == "P05"]
    (WORK / "hand.csv").write_text("\n".join(text) + "\n")
    good("sight", "--import", WORK / "hand.csv", "--natural", "-s", where)
    good("adjust", "-s", where)
    (corner,) = rows(where / "results" / "natural.csv")
    truth = {r["point"]: r for r in rows(SMALL / "truth" / "points.csv")}["P05"]
    assert corner["id"] == "corner" and int(corner["rays"]) == len(text) - 1
    for axis in ("east", "north", "height"):
        sigma = float(corner[f"sigma_{axis}"])
        assert 0 < sigma < 0.5 and abs(float(corner[axis]) - float(truth[axis])) < 4 * sigma, (axis, corner, truth)
    good("export", "points", "-s", where)
    assert any(r["point"] == "corner" and r["sigma_east"] for r in rows(where / "results" / "points.csv"))


def test_a_disk_that_is_full_is_told_as_that_and_status_still_tells():
    def no_room():
        import resource

        resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))

    def full(*words):
        return subprocess.run([PROGRAM, *map(str, words)], capture_output=True, text=True, preexec_fn=no_room)

    where = WORK / "full"
    shutil.copytree(S, where)
    good("control", "--sigma", "K01=0.012", "-s", where)  # so that adjust has something to do
    told = full("adjust", "-s", where, "--quiet")
    assert told.returncode == 3 and "delete" not in told.stderr and "damaged" not in told.stderr, told.stderr
    looked = full("status", "-s", where)
    assert looked.returncode == 0 and "densify" in looked.stdout, looked.stderr
    good("adjust", "-s", where)


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
