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


def oriented(name, stations, cameras=None):
    """The block with these positions and cameras: what orient says, and the stations it exports."""
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
    good("tie", "--import", BLOCK, "--pairs", "none", "-s", survey)
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


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
