#!/usr/bin/python3
"""Blocks that cannot be adjusted, or hang by little: each must be told in words that name what is missing. Photos without
pixels over a slope, by this file's own projection. By the built program: usage as in harness.py."""
import json
import re
import sys

import numpy as np
from geometry import image, rotation
from harness import call, folder, good, rows, run_all

WORK = folder()
CAMERA = dict(c=1100.0, x0=4.0, y0=-3.0, k1=-0.07, k2=0.02, k3=0, p1=0, p2=0, b1=0, b2=0, width=1200, height=900)
HOME = np.array([431200.0, 6822400.0, 640.0])
RNG = np.random.default_rng(7)
STATIONS = [
    np.array([18.0 * (i % 4) - 27, 16.0 * (i // 4) - 16, 65 + RNG.normal(0, 2), *RNG.normal(0, 0.02, 2) + [0, 0.3 * (i % 3 == 1)], RNG.normal(0, 1)])
    for i in range(12)
]
NAMES = [f"P{i:02d}" for i in range(12)]


def ground(x, y):
    return 6 * np.sin(x / 17) + 4 * np.cos(y / 13) + 0.1 * y


def seen(points):
    """Rows of image points: photo, number of the point, x, y."""
    out = []
    for i, s in enumerate(STATIONS):
        v = (points - s[:3]) @ rotation(*s[3:])
        x = image(CAMERA, v)
        out += [(NAMES[i], k, *x[k]) for k in np.flatnonzero((x > 5).all(axis=1) & (x < [1195, 895]).all(axis=1))]
    return out


def survey(name, sigma="", few=None):
    """Listed photos with ties; `few`: how many of them the last photo keeps."""
    where = WORK / name
    where.mkdir()
    place = RNG.uniform(-40, 40, (300, 2))
    points = np.column_stack([place, ground(*place.T)])
    listing = "image,sortie,camera,east,north,height,omega,phi,kappa,sigma_h,sigma_v\n"
    for image_name, s in zip(NAMES, STATIONS):
        listing += f"{image_name},one,cam,{','.join(f'{v:.5f}' for v in s[:3] + HOME)},{','.join(f'{v:.8f}' for v in np.degrees(s[3:]))},{sigma},{sigma}\n"
    ties, left = "image,point,x,y\n", few
    for photo, k, x, y in seen(points):
        if photo == NAMES[-1] and left is not None:
            left -= 1
            if left < 0:
                continue
        ties += f"{photo},T{k},{x + RNG.normal(0, 0.5):.4f},{y + RNG.normal(0, 0.5):.4f}\n"
    (where / "stations.csv").write_text(listing)
    (where / "cameras.json").write_text(json.dumps({"cam": CAMERA}))
    (where / "ties.csv").write_text(ties)
    good("new", where / "s", "--crs", "EPSG:25833", "--heights", "plain")
    good("admit", "--listing", where / "stations.csv", "--cameras", where / "cameras.json", "-s", where / "s")
    good("tie", "--import", where / "ties.csv", "-s", where / "s")
    return where / "s"


def control(where, points, heights=True, role="control", sighted=True):
    points = np.asarray(points, float)
    text, sightings = "id,east,north,height,role,sigma_h,sigma_v\n", "image,point,x,y\n"
    letter = "K" if role == "control" else "Q"
    for k, X in enumerate(points + HOME):
        text += f"{letter}{k},{X[0]:.5f},{X[1]:.5f},{f'{X[2]:.5f}' if heights else ''},{role},0.01,0.015\n"
    for photo, k, x, y in seen(points) if sighted else []:
        sightings += f"{photo},{letter}{k},{x:.4f},{y:.4f}\n"
    (where / "c.csv").write_text(text)
    (where / "x.csv").write_text(sightings)
    good("control", where / "c.csv", "-s", where)
    if sighted:
        good("sight", "--import", where / "x.csv", "-s", where)


def on_ground(*places):
    return [(x, y, ground(x, y)) for x, y in places]


SPREAD = on_ground((-25, -20), (28, -18), (24, 22), (-22, 25), (2, 3))


def refused(where):
    answer = call("adjust", "--fix-camera", "-s", where)
    assert answer.code == 3, (answer.code, answer.err)
    return answer.last


def test_control_on_a_line_leaves_a_turn_about_it_and_the_last_good_result_stands():
    where = survey("line")
    control(where, SPREAD)
    assert abs(good("adjust", "--fix-camera", "-s", where)["sigma0"] - 1) < 0.2
    before = (where / "results" / "adjustment.json").read_bytes()
    (where / "inputs" / "control.csv").unlink()
    (where / "inputs" / "sightings.csv").unlink()
    control(where, [(3 * t, 4 * t, 1 + 0.1 * t) for t in (-5, -2, 1, 5)])
    words = refused(where)
    assert "turn about a line of azimuth 37 degrees" in words and "off the line" in words, words
    assert (where / "results" / "adjustment.json").read_bytes() == before


def test_control_without_heights_leaves_the_height():
    where = survey("plan")
    control(where, SPREAD, heights=False)
    words = refused(where)
    assert "its height" in words and "known height" in words, words


def test_a_block_without_control_or_positions_is_free():
    words = refused(survey("free"))
    assert "0 control points" in words and "add control" in words, words


def test_control_that_contradicts_the_positions_is_told():
    where = survey("apart", sigma=0.05)
    control(where, [np.add(X, [0, 0, 40]) for X in SPREAD], sighted=False)
    (where / "x.csv").write_text(
        "image,point,x,y\n" + "".join(f"{p},K{k},{x:.4f},{y:.4f}\n" for p, k, x, y in seen(np.array(SPREAD)))
    )
    good("sight", "--import", where / "x.csv", "-s", where)
    said = call("adjust", "--fix-camera", "-s", where)
    assert said.code == 0 and "positions_crs" in said.err, said.err
    # The median of points that the positions put there within 0.12 m, as it says.
    assert abs(float(re.search(r"height ([+-][0-9.]+) m off", said.err)[1]) - 40) < 0.3, said.err


def test_a_photo_with_three_ties_is_named():
    where = survey("hanging", sigma=0.5, few=3)
    control(where, SPREAD[:4])
    sightings = [r for r in rows(where / "inputs" / "sightings.csv") if r["image"] != NAMES[-1]]
    (where / "inputs" / "sightings.csv").write_text(
        ",".join(sightings[0]) + "\n" + "\n".join(",".join(r.values()) for r in sightings) + "\n"
    )
    said = call("adjust", "--fix-camera", "-s", where)
    assert said.code == 0 and f"hang on few ties: {NAMES[-1]} (" in said.err, said.err


def test_checks_without_sightings_and_sightings_outside_the_photo():
    where = survey("blind")
    control(where, SPREAD)
    control(where, on_ground((5, 10), (-9, 4)), role="check", sighted=False)
    said = call("adjust", "--fix-camera", "-s", where)
    assert said.code == 0 and "Q0, Q1 are sighted in fewer than two photos" in said.err, said.err
    (where / "x.csv").write_text("image,point,x,y\nP03,Q1,1300.0,200.0\n")
    outside = call("sight", "--import", where / "x.csv", "-s", where)
    assert outside.code == 3 and "outside" in outside.last and "1200" in outside.last, outside.last


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
