#!/usr/bin/python3
"""Rolling shutters from a made-up block without pixels: with the readout known the checks are as good as with shutters that
open at once, without it they are not. By the built program: usage as in harness.py."""
import json
import math
import shutil
import sys

from harness import call, folder, good, rows, run_all

WORK = folder()
MADE = WORK / "made"
good("simulate", MADE, "--no-photos", "--photos", 40, "--points", 150, "--gross", 0.02, "--readout", 0.05)
BLIND = WORK / "blind"
shutil.copytree(MADE, BLIND)
known = json.loads((BLIND / "cameras.json").read_text())
for camera in known.values():
    assert camera.pop("readout_seconds") == 0.05
(BLIND / "cameras.json").write_text(json.dumps(known))


def adjusted(where):
    good("admit", "--listing", where / "stations.csv", "--cameras", where / "cameras.json", "-s", where)
    good("tie", "--import", where, "--pairs", "none", "-s", where)
    good("orient", "-s", where)
    good("control", where / "control.csv", "-s", where)
    good("sight", "--import", where / "sightings.csv", "-s", where)
    # What the motion explains must show in sigma0, not be taken into the ties' sigma.
    (where / "survey.toml").write_text((where / "survey.toml").read_text() + '\n[adjust]\nweights = "given"\n')
    return good("adjust", "-s", where)


WITH, WITHOUT = adjusted(MADE), adjusted(BLIND)


def test_the_readout_makes_the_difference():
    def error(answer):
        return math.sqrt(sum(answer["check"][f"rmse_{a}"] ** 2 for a in ("east", "north", "height")))

    assert abs(WITH["sigma0"] - 1) < 0.05 and WITH["check_normalised"]["mean"] < 1.6, WITH["check_normalised"]
    assert error(WITHOUT) > 2 * error(WITH), (error(WITHOUT), error(WITH))
    assert WITHOUT["reprojection_rms_px"] > 1.15 * WITH["reprojection_rms_px"]
    assert len(WITHOUT["suspects"]) > 10 * max(1, len(WITH["suspects"]))
    # Six unknowns a photo more, each with its prior.
    assert WITH["unknowns"] - 3 * WITH["tie_points"] - (WITHOUT["unknowns"] - 3 * WITHOUT["tie_points"]) == 6 * 40


def test_motion_stands_in_the_results_and_serves_as_a_listing():
    stations = rows(MADE / "results" / "stations.csv")
    assert "v_east" not in rows(BLIND / "results" / "stations.csv")[0]
    along = [float(r["v_north"]) for r in stations if r["sortie"] == "grid"]
    # Strips to and fro: photos of 11 m base every three seconds.
    assert sum(abs(v) for v in along) / len(along) > 2 and min(along) < -1 < 1 < max(along)
    assert json.loads((MADE / "results" / "cameras.json").read_text())["kestrel-a"]["readout_seconds"] == 0.05
    again = WORK / "again"
    good("new", again, "--crs", "EPSG:25833+5773")
    good("admit", "--listing", MADE / "results" / "stations.csv", "--cameras", MADE / "results" / "cameras.json", "--fixed", "-s", again)
    good("tie", "--import", MADE, "--pairs", "none", "-s", again)
    good("control", MADE / "control.csv", "-s", again)
    good("sight", "--import", MADE / "sightings.csv", "-s", again)
    held = good("adjust", "--fix-camera", "-s", again)
    for axis in ("east", "north", "height"):
        assert abs(held["check"][f"rmse_{axis}"] - WITH["check"][f"rmse_{axis}"]) < 0.01, (axis, held["check"], WITH["check"])


def test_cameras_are_set_in_survey_toml():
    where = WORK / "set"
    shutil.copytree(BLIND, where)
    settings = (where / "survey.toml").read_text()
    tables = "".join(f"\n[camera.{name}]\nreadout_seconds = 0.05\n" for name in known)
    (where / "survey.toml").write_text(settings + tables)
    states = {s["name"]: s["state"] for s in good("status", "-s", where)["stages"]}
    assert states["orient"] == "out of date", states
    good("orient", "-s", where)
    answer = good("adjust", "-s", where)
    for axis in ("east", "north", "height"):  # the same block by another way in
        assert abs(answer["check"][f"rmse_{axis}"] - WITH["check"][f"rmse_{axis}"]) < 0.005
    (where / "survey.toml").write_text(settings + "\n[camera.kestrel-a]\nfixed = true\nc = 1100.0\n")
    good("orient", "-s", where)
    fixed = good("adjust", "-s", where)["cameras"]
    assert fixed["kestrel-a"]["c"] == 1100.0 and fixed["kestrel-b"]["c"] != known["kestrel-b"]["c"]
    for table, words in (
        ("[camera.kestrel]\nc = 1.0\n", "names no camera"),
        ("[camera.kestrel-a]\nreadout_second = 0.1\n", "did you mean 'readout_seconds'"),
        ("[camera.kestrel-a]\nreadout_seconds = 30\n", "less than a second"),
        ("[camera.kestrel-a]\nc = -5.0\n", "greater than 0"),
    ):
        (where / "survey.toml").write_text(settings + "\n" + table)
        refused = call("orient", "-s", where)
        assert refused.code == 3 and words in refused.last, refused.last


def test_tie_points_have_the_sigmas_that_their_errors_have():
    good("export", "points", "-s", MADE)
    points = rows(MADE / "results" / "points.csv")
    sigmas = [[float(p[f"sigma_{a}"] or "nan") for a in ("east", "north", "height")] for p in points]
    known_ones = [s for s in sigmas if not math.isnan(s[2])]
    assert len(known_ones) > 0.95 * len(points)
    middle = sorted(s[2] for s in known_ones)[len(known_ones) // 2]
    checks = [float(r["sigma_d_height"]) for r in rows(MADE / "results" / "checks.csv")]
    # Tie points have the rays of checks at a larger sigma; both see the same stations.
    assert 0.5 < middle / (sum(checks) / len(checks)) < 3
    assert sum(s[2] > s[0] for s in known_ones) > 0.9 * len(known_ones)  # photos that look down


def test_photos_with_pixels_and_times():
    made = WORK / "photos"
    good("simulate", made, "--photos", 20, "--size", "480x360", "--readout", 0.1)
    blind = WORK / "photos_blind"
    shutil.copytree(made, blind)
    text = (blind / "survey.toml").read_text()
    assert text.count("readout_seconds = 0.1") == 2
    (blind / "survey.toml").write_text(text[: text.index("[camera.")])
    checks = []
    for where in (made, blind):
        for sortie in ("grid", "cross"):
            good("admit", where / "photos" / sortie, "--sortie", sortie, "-s", where)
        good("control", where / "control.csv", "-s", where)
        good("sight", "--import", where / "sightings.csv", "-s", where)
        for stage in ("tie", "orient"):
            good(stage, "-s", where)
        checks.append(good("adjust", "-s", where))
    known, passed_over = checks
    assert known["reprojection_rms_px"] < 0.8 * passed_over["reprojection_rms_px"], (known["reprojection_rms_px"], passed_over["reprojection_rms_px"])
    assert math.hypot(known["check"]["rmse_east"], known["check"]["rmse_north"]) < math.hypot(
        passed_over["check"]["rmse_east"], passed_over["check"]["rmse_north"]
    )
    # Flown in strips: what positions and times foretell of a photo between two others of its strip is near its velocity.
    true = {r["image"]: [float(r[a]) for a in ("east", "north")] for r in rows(made / "truth" / "stations.csv")}
    stations = [r for r in rows(made / "results" / "stations.csv") if r["sortie"] == "grid"]
    off = []
    for before, here, after in zip(stations, stations[1:], stations[2:]):
        steps = [[b - a for a, b in zip(true[one["image"]], true[two["image"]])] for one, two in ((before, here), (here, after))]
        if steps[0][0] * steps[1][0] + steps[0][1] * steps[1][1] < 0:
            continue  # the strip's end
        wanted = [(p + q) / 6 for p, q in zip(*steps)]  # three seconds a photo
        off.append(math.hypot(float(here["v_east"]) - wanted[0], float(here["v_north"]) - wanted[1]))
    # Gusts of 0.4 m/s an axis are drawn on top, and geotags of a metre foretell to 0.3 m/s.
    assert len(off) >= 3 and sorted(off)[len(off) // 2] < 2.0, off


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
