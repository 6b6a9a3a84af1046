#!/usr/bin/python3
"""Blocks without pixels that bring along what practice brings: each comes out right, or it is said what is wrong. By the
built program: usage as in harness.py."""
import csv
import json
import shutil
import sys

import numpy as np
from harness import call, folder, good, rows, run_all

WORK = folder()
BLOCK = WORK / "block"
GSD = 0.062  # flying height over principal distance, m


def places(path):
    return {r["image"]: np.array([float(r[k]) for k in ("east", "north", "height")]) for r in rows(path)}


def oriented(name, stations, cameras=None, ties=None):
    """The block with these positions, cameras and ties: what orient says, and the stations it exports."""
    survey = WORK / name
    table = WORK / f"{name}.csv"
    with open(table, "w", encoding="utf-8", newline="") as out:
        writer = csv.DictWriter(out, stations[0].keys())
        writer.writeheader()
        writer.writerows(stations)
    calibration = WORK / f"{name}.json"
    calibration.write_text(json.dumps(cameras or json.loads((BLOCK / "cameras.json").read_text())))
    good("new", survey, "--crs", "EPSG:25833+5773")
    good("admit", "--listing", table, "--cameras", calibration, "-s", survey)
    good("tie", "--import", ties or BLOCK, "--pairs", "none", "-s", survey)
    result = call("orient", "--json", "-s", survey)
    if result.code != 0:
        return result, None
    good("export", "stations", "-s", survey)
    return result, places(survey / "results" / "stations.csv")


def misfit(found):
    """Distances of the stations from truth: as they stand, and after the similarity that fits them best (Horn 1987, by
    the quaternion)."""
    truth = places(BLOCK / "truth" / "stations.csv")
    names = sorted(found)
    a, b = np.array([found[n] for n in names]), np.array([truth[n] for n in names])
    p, q = a - a.mean(0), b - b.mean(0)
    s = p.T @ q
    k = np.zeros((4, 4))
    k[0, 0] = np.trace(s)
    k[0, 1:] = k[1:, 0] = s[1, 2] - s[2, 1], s[2, 0] - s[0, 2], s[0, 1] - s[1, 0]
    k[1:, 1:] = s + s.T - np.trace(s) * np.eye(3)
    w, x, y, z = np.linalg.eigh(k)[1][:, -1]
    turn = np.array(
        [
            [w * w + x * x - y * y - z * z, 2 * (x * y - w * z), 2 * (x * z + w * y)],
            [2 * (x * y + w * z), w * w - x * x + y * y - z * z, 2 * (y * z - w * x)],
            [2 * (x * z - w * y), 2 * (y * z + w * x), w * w - x * x - y * y + z * z],
        ]
    )
    scale = (q * (p @ turn.T)).sum() / (p * p).sum()
    return np.linalg.norm(a - b, axis=1), np.linalg.norm(scale * p @ turn.T - q, axis=1)


def assert_right(result, found):
    answer = json.loads(result.out)
    assert answer["oriented"] == 60 and answer["components"] == 1, answer
    as_it_stands, fitted = misfit(found)
    assert np.median(fitted) < 1.0 * GSD and fitted.max() < 2.0 * GSD, (np.median(fitted), fitted.max())
    # Positions of 1 to 1.5 m with an offset a sortie of the same size: 60 of them do not take that away.
    assert np.median(as_it_stands) < 4, np.median(as_it_stands)
    return answer


def said(result):
    return " | ".join(w["text"] for w in json.loads(result.out)["warnings"])


def test_a_block_with_gross_errors_and_false_pairs():
    good("simulate", BLOCK, "--no-photos", "--photos", "60", "--points", "150")
    # The mistakes are there: pairs without common ground, two for a hundred others, a footprint being 74 m x 55 m.
    truth = places(BLOCK / "truth" / "stations.csv")
    pairs = {(m["image_a"], m["image_b"]) for m in rows(BLOCK / "matches.csv")}
    false = [p for p in pairs if p[0][0] == p[1][0] == "G" and np.linalg.norm(truth[p[0]] - truth[p[1]]) > 93]
    assert 0.005 < len(false) / len(pairs) < 0.03, (len(false), len(pairs))
    result, found = oriented("plain", rows(BLOCK / "stations.csv"))
    answer = assert_right(result, found)
    assert answer["warnings"] == [], answer


def test_one_position_in_ten_is_that_of_another_photo():
    stations = rows(BLOCK / "stations.csv")
    wrong = [3, 11, 24, 30, 47, 55]
    given = [dict(s) for s in stations]
    for i, j in zip(wrong, wrong[1:] + wrong[:1]):
        for k in ("east", "north", "height"):
            given[i][k] = stations[j][k]
    result, found = oriented("shuffled", given)
    assert_right(result, found)
    # Named are those that were moved by more than the positions' own noise, and nobody else.
    named = {s["image"] for s in stations if f"{s['image']}: its position is" in said(result)}
    assert named <= {stations[i]["image"] for i in wrong} and len(named) >= 4, (named, said(result))


def test_a_focal_length_that_is_30_percent_wrong():
    cameras = json.loads((BLOCK / "cameras.json").read_text())
    result, found = oriented("focal", rows(BLOCK / "stations.csv"), {n: {**c, "c": 1.3 * c["c"]} for n, c in cameras.items()})
    assert_right(result, found)


def test_east_and_north_swapped_are_refused():
    swapped = [{**s, "east": s["north"], "north": s["east"]} for s in rows(BLOCK / "stations.csv")]
    result, _ = oriented("swapped", swapped)
    assert result.code == 3 and "mirror image" in result.last and "swapped" in result.last, result.err


def test_sorties_with_different_height_zeros_are_named_with_the_difference():
    lifted = [
        {**s, "height": float(s["height"]) + (34 if s["sortie"] == "cross" else 0)} for s in rows(BLOCK / "stations.csv")
    ]
    result, found = oriented("zeros", lifted)
    words = said(result)
    assert "grid and cross contradict each other in height by 3" in words, words
    assert np.median(misfit(found)[1]) < 1.0 * GSD


def test_positions_of_another_block_are_refused():
    stations = rows(BLOCK / "stations.csv")
    order = np.random.default_rng(5).permutation(len(stations))
    mixed = [{**s, **{k: stations[j][k] for k in ("east", "north", "height")}} for s, j in zip(stations, order)]
    result, _ = oriented("mixed", mixed)
    assert result.code == 3 and ("do not fit the shape" in result.last or "mirror" in result.last), (result.code, result.err, result.out)


def ties_where(name, keypoint=lambda k: True, pair=lambda a, b: True):
    """A folder with those keypoints and matches of the block that pass."""
    place = WORK / f"{name}_ties"
    place.mkdir()
    kept = [k for k in rows(BLOCK / "keypoints.csv") if keypoint(k)]
    ids = {(k["image"], k["id"]) for k in kept}
    matches = [
        m
        for m in rows(BLOCK / "matches.csv")
        if (m["image_a"], m["id_a"]) in ids and (m["image_b"], m["id_b"]) in ids and pair(m["image_a"], m["image_b"])
    ]
    for file, table in (("keypoints.csv", kept), ("matches.csv", matches)):
        with open(place / file, "w", encoding="utf-8", newline="") as out:
            writer = csv.DictWriter(out, table[0].keys())
            writer.writeheader()
            writer.writerows(table)
    return place


def test_no_focal_length_at_all():
    cameras = json.loads((BLOCK / "cameras.json").read_text())
    for c in cameras.values():
        del c["c"]
    answer = assert_right(*oriented("no_focal", rows(BLOCK / "stations.csv"), cameras))
    # The guess is one for both, 8 % and 4 % off; the photos say which is which.
    assert sorted(round(c["c"] / 100) for c in answer["cameras"]) == [10, 11] and len({c["c_start"] for c in answer["cameras"]}) == 1


def test_without_positions_the_block_is_free_until_control_is_sighted():
    unplaced = [{**s, "east": "", "north": "", "height": ""} for s in rows(BLOCK / "stations.csv")]
    result, found = oriented("free", unplaced)
    answer = json.loads(result.out)
    assert answer["free"] and answer["gsd"] is None and answer["oriented"] == 60 and "the block is free" in said(result)
    assert np.median(misfit(found)[1]) < 1.0 * GSD
    survey = WORK / "free"
    assert "scale and place" in call("adjust", "-s", survey).last and call("adjust", "-s", survey).code == 3
    good("control", BLOCK / "control.csv", "-s", survey)
    good("sight", "--import", BLOCK / "sightings.csv", "-s", survey)
    again = good("orient", "-s", survey)
    assert not again["free"] and again["blocks"][0]["datum"] == "control", again
    good("export", "stations", "-s", survey)
    as_it_stands, _ = misfit(places(survey / "results" / "stations.csv"))
    assert np.median(as_it_stands) < 0.25  # 9 control points of 1.5 cm; the height goes with c, see survey_test


def test_two_halves_that_nothing_ties_are_two_blocks_in_their_places():
    truth = places(BLOCK / "truth" / "stations.csv")
    middle = np.median([p[0] for p in truth.values()])
    halves = ties_where("halves", pair=lambda a, b: (truth[a][0] < middle) == (truth[b][0] < middle))
    result, found = oriented("halves", rows(BLOCK / "stations.csv"), ties=halves)
    answer = json.loads(result.out)
    assert answer["oriented"] == 60 and answer["components"] == 2, answer
    assert sorted(b["photos"] for b in answer["blocks"]) == [30, 30] and "make 2 blocks" in said(result)
    for west in (True, False):
        half = {n: p for n, p in found.items() if (truth[n][0] < middle) == west}
        _, fitted = misfit(half)
        assert np.median(fitted) < 1.0 * GSD and fitted.max() < 2.5 * GSD, fitted
    assert np.median(misfit(found)[0]) < 4
    # Heights between the halves are those of the positions; neither half is bent by more than a nadir block is.
    assert answer["bowl"]["sigma"] < 3 * GSD, answer["bowl"]
    survey = WORK / "halves"
    good("control", BLOCK / "control.csv", "-s", survey)
    good("sight", "--import", BLOCK / "sightings.csv", "-s", survey)
    assert good("adjust", "-s", survey)["bowl"]["sigma"] < 3 * GSD


def test_a_single_strip_says_what_its_positions_leave_open():
    truth = places(BLOCK / "truth" / "stations.csv")
    west = min(p[0] for n, p in truth.items() if n[0] == "G")
    strip = {n for n, p in truth.items() if n[0] == "G" and p[0] < west + 12}
    ties = ties_where("strip", keypoint=lambda k: k["image"] in strip)
    result, found = oriented("strip", [s for s in rows(BLOCK / "stations.csv") if s["image"] in strip], ties=ties)
    assert len(found) == len(strip) > 8 and "lie on one line" in said(result), said(result)
    as_it_stands, _ = misfit(found)
    # Eleven positions of 1.5 m; the offset of a sortie they share is of that size too.
    assert np.median(as_it_stands) < 5, as_it_stands
    # Turned by no more than the mean tilt of eleven photos, a few degrees each.
    tilts = [float(r["omega"]) for r in rows(WORK / "strip" / "results" / "stations.csv")]
    true = {r["image"]: float(r["omega"]) for r in rows(BLOCK / "truth" / "stations.csv")}
    turns = [t - true[r["image"]] for t, r in zip(tilts, rows(WORK / "strip" / "results" / "stations.csv"))]
    assert abs(np.mean(turns)) < 6, turns


def test_a_wrong_position_on_a_strip_is_left_out_and_named():
    given = rows(WORK / "strip.csv")
    middle = len(given) // 2
    given[middle] = {**given[middle], "north": float(given[middle]["north"]) + 60}
    result, found = oriented("strip_wrong", given, ties=WORK / "strip_ties")
    assert f"{given[middle]['image']}: its position is" in said(result) and said(result).count("its position is") == 1
    as_it_stands, _ = misfit(found)
    assert np.median(as_it_stands) < 5, as_it_stands  # as the strip without it: 60 m would pull it by 5 of eleven


def test_photos_that_are_mostly_water_hold_all_the_same():
    rng = np.random.default_rng(1)
    wet = {s["image"] for s in rows(BLOCK / "stations.csv") if rng.random() < 0.4}
    ties = ties_where("water", keypoint=lambda k: k["image"] not in wet or float(k["y"]) > 540)  # 60 % of 900
    result, found = oriented("water", rows(BLOCK / "stations.csv"), ties=ties)
    assert json.loads(result.out)["oriented"] == 60
    _, fitted = misfit(found)
    assert np.median(fitted) < 1.5 * GSD and fitted.max() < 4 * GSD, fitted  # half the rays, at one edge


def test_repeated_texture_makes_no_wrong_block():
    other = WORK / "repeated"
    good("simulate", other, "--no-photos", "--photos", "60", "--points", "150", "--false-pairs", "0.15")
    result, found = oriented("texture", rows(other / "stations.csv"), json.loads((other / "cameras.json").read_text()), other)
    assert json.loads(result.out)["oriented"] == 60
    truth = places(other / "truth" / "stations.csv")
    assert all(np.abs(truth[n] - p).max() < 1e-5 for n, p in places(BLOCK / "truth" / "stations.csv").items())
    _, fitted = misfit(found)
    assert np.median(fitted) < 1.0 * GSD and fitted.max() < 2.5 * GSD, (np.median(fitted), fitted.max())


def test_nadir_photos_alone_are_not_trusted_in_height():
    nadir = {s["image"] for s in rows(BLOCK / "stations.csv") if s["image"][0] == "G"}
    ties = ties_where("nadir", keypoint=lambda k: k["image"] in nadir)
    result, _ = oriented("nadir", [s for s in rows(BLOCK / "stations.csv") if s["image"] in nadir], ties=ties)
    assert "bent like a bowl" in said(result) and "oblique" in said(result), said(result)


def test_a_listing_in_another_unit_is_known_by_its_ties():
    truth = rows(BLOCK / "truth" / "stations.csv")
    for unit, factor in (("radians", np.pi / 180), ("gon", 10 / 9)):
        table = [{**s, **{a: float(s[a]) * factor for a in ("omega", "phi", "kappa")}} for s in truth]
        result, _ = oriented(unit, table, json.loads((BLOCK / "truth" / "cameras.json").read_text()))
        assert result.code == 3 and f"taken as {unit}" in result.last, result.err


def test_a_fixed_listing_stays_and_what_it_leaves_out_is_added():
    truth = rows(BLOCK / "truth" / "stations.csv")
    cameras = json.loads((BLOCK / "truth" / "cameras.json").read_text())
    out = {s["image"] for s in truth[::7]}
    listed = [{**s, **({a: "" for a in ("omega", "phi", "kappa")} if s["image"] in out else {})} for s in truth]
    result, found = oriented("gaps", listed, cameras)
    assert json.loads(result.out)["oriented"] == 60, result.out
    right = places(BLOCK / "truth" / "stations.csv")
    # By resection from points of 0.5 px rays: some hundredths of a metre; the others are what was given.
    assert max(np.linalg.norm(found[n] - right[n]) for n in out) < 0.3
    assert max(np.abs(found[n] - right[n]).max() for n in right.keys() - out) < 1e-4
    survey = WORK / "fixed"
    good("new", survey, "--crs", "EPSG:25833+5773")
    good("admit", "--listing", BLOCK / "truth" / "stations.csv", "--cameras", BLOCK / "cameras.json", "--fixed", "-s", survey)
    good("tie", "--import", BLOCK, "--pairs", "none", "-s", survey)
    good("orient", "-s", survey)
    adjusted = good("adjust", "-s", survey)
    # The cameras alone are unknown, and exact stations give them back: hundredths of a pixel from 20,000 rays.
    assert adjusted["unknowns"] == 16 + 3 * adjusted["tie_points"], adjusted
    assert all(abs(c["c"] - cameras[n]["c"]) < 0.1 for n, c in adjusted["cameras"].items()), adjusted["cameras"]
    kept = places(survey / "results" / "stations.csv")
    assert max(np.abs(kept[n] - right[n]).max() for n in right) < 1e-4


def test_the_number_of_threads_changes_no_byte():
    bytes_of = set()
    for threads in ("1", "2", "3", "7"):
        survey = WORK / f"threads{threads}"
        shutil.copytree(WORK / "plain", survey)
        shutil.rmtree(survey / "results")
        good("tie", "--import", BLOCK, "--pairs", "none", "-s", survey)
        (survey / "results" / "sparse.las").unlink(missing_ok=True)
        good("orient", "--threads", threads, "-s", survey)
        good("export", "stations", "-s", survey)
        bytes_of.add(tuple((survey / "results" / f).read_bytes() for f in ("stations.csv", "sparse.las")))
    assert len(bytes_of) == 1


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
