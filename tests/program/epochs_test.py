#!/usr/bin/env python3
"""A second epoch held by points of the first, and clouds compared, by the built program: usage as in harness.py."""
import shutil
import sys

from harness import SMALL, call, folder, good, new_survey, rows, run_all

WORK = folder()


def oriented(place):
    new_survey(place)
    good("tie", "-s", place)
    good("orient", "-s", place)
    return place


FIRST = oriented(WORK / "first")
good("control", SMALL / "control.csv", "-s", FIRST)
good("sight", "--import", SMALL / "sightings.csv", "-s", FIRST)
shutil.copytree(FIRST, WORK / "unadjusted")
good("adjust", "-s", FIRST)
SECOND = oriented(WORK / "second")


def checks(survey):
    """Errors of checks, and what is predicted of them in height."""
    found = [r for r in rows(survey / "results" / "checks.csv") if r["d_east"]]
    return {r["id"]: [float(r[a]) for a in ("d_east", "d_north", "d_height", "sigma_d_height")] for r in found}


def test_a_second_epoch_stands_on_points_of_the_first():
    made = good("control", "--from", FIRST, "-s", SECOND)
    carried = made["carried"]
    assert 30 <= carried["points"] <= 60 and carried["stable"] <= carried["matched"]
    assert made["control"] == carried["points"] and all(p["id"].startswith("first-") for p in made["list"])
    # Nothing is looked for where they lie.
    found = good("sight", "-s", SECOND)
    assert found["found"] == 0 and found["predicted"] == 0, found
    good("control", SMALL / "control.csv", "--check", "K*,P*", "-s", SECOND)
    good("sight", "--import", SMALL / "sightings.csv", "-s", SECOND)
    good("adjust", "-s", SECOND)
    # The same photos: on the ground the first epoch comes back, to a fifth of a pixel of 0.16 m.
    then, now = checks(FIRST), checks(SECOND)
    both = sorted(set(then) & set(now))
    assert len(both) >= 30
    for axis in range(3):
        apart = [now[p][axis] - then[p][axis] for p in both]
        assert abs(sum(apart) / len(apart)) < 0.03 and max(map(abs, apart)) < 0.12, (axis, apart)
    # New rays count as new: where all uncertainty is theirs, two epochs are surer than one by the root of two, and no
    # more, however many points carry the datum.
    surer = sorted(now[p][3] / then[p][3] for p in both)
    assert 0.65 < surer[len(surer) // 2] < 1, surer
    # Called again they are replaced, not doubled; taken out, nothing of them is left.
    again = good("control", "--from", FIRST, "-s", SECOND)
    assert again["control"] == again["carried"]["points"] == carried["points"], again["control"]
    good("control", "--remove", "first-01", "-s", SECOND)
    joint = (SECOND / "inputs" / "control_joint.csv").read_text()
    assert "first-01" not in joint and "first-02" in joint
    assert "first-01" not in (SECOND / "inputs" / "sightings.csv").read_text()
    good("adjust", "-s", SECOND)
    good("control", "--remove", "first-*", "-s", SECOND)
    assert "first-" not in (SECOND / "inputs" / "sightings.csv").read_text()


def test_what_cannot_be_carried_is_refused_in_a_sentence():
    refused = call("control", "--from", WORK / "unadjusted", "-s", SECOND)
    assert refused.code == 3 and "adjust has not run" in refused.last, refused.last
    refused = call("control", "--from", WORK / "nowhere", "-s", SECOND)
    assert refused.code == 3 and "nowhere" in refused.last, refused.last
    other = WORK / "other"
    good("new", other, "--crs", "EPSG:25832+5773")
    refused = call("control", "--from", FIRST, "-s", other)
    assert refused.code == 3 and "another CRS" in refused.last, refused.last


def test_clouds_of_surveys_are_compared_and_what_is_missing_is_named():
    refused = call("compare", "--normals", FIRST, SECOND)
    assert refused.code == 3 and "mesograph densify" in refused.last, refused.last
    refused = call("compare", FIRST, SECOND)
    assert refused.code == 3 and "mesograph surface" in refused.last, refused.last
    assert call("compare", FIRST, SECOND, "--scale", "2").code == 2
    assert call("compare", "--normals", FIRST, SECOND, "--reach", "0").code == 2
    good("densify", "-s", FIRST)
    # A cloud beside itself has not changed, along its normals or in height; where its groups of points go on beyond a
    # scale their medians differ a little, for the later cloud is followed farther.
    same = good("compare", "--normals", FIRST, FIRST, "--out", WORK / "same")
    assert same["changes"] == [] and abs(same["stable_mean"]) < 1e-5 * same["scale"] and same["alone"] == 0, same
    cloud = FIRST / "results" / "cloud.las"
    flat = call("compare", cloud, cloud, "--out", WORK / "flat")
    assert flat.code == 0 and "no change beyond error" in flat.out
    assert (WORK / "same" / "distances.png").stat().st_size > 5000


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
