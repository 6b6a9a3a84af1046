#!/usr/bin/python3
"""A calibration board: two cameras, photos without pixels, no ties at all, or four control points and the rest as ties.
What comes out is held against an adjustment written down here anew: Brown's formula, all unknowns in one vector, the
whole normal matrix, derivatives by differences. By the built program: usage as in harness.py."""
import csv
import json
import sys

import numpy as np
from geometry import image, rotation
from harness import call, folder, good, rows, run_all

WORK = folder()
FREE = ["c", "x0", "y0", "k1", "k2", "p1", "p2"]
TRUE = {
    "left": dict(c=2210.0, x0=7.5, y0=-11.2, k1=-0.081, k2=0.055, p1=0.0006, p2=-0.0004, width=1600, height=1200),
    "right": dict(c=2255.0, x0=-4.1, y0=6.3, k1=-0.064, k2=0.031, p1=-0.0003, p2=0.0005, width=1600, height=1200),
}
START = {name: {**camera, "c": 2200.0, "x0": 0, "y0": 0, "k1": 0, "k2": 0, "p1": 0, "p2": 0} for name, camera in TRUE.items()}
NOISE_PX, CONTROL_M = 0.05, 0.0001


def seen(camera, station, points):
    """Image points (n x 2, pixels) of ground points; station: C and omega, phi, kappa in rad."""
    return image({"k3": 0, "b1": 0, "b2": 0, **camera}, (points - station[:3]) @ rotation(*station[3:]))


class Board:
    """Points of a board with a second layer, 26 photos from all sides, half of them rolled."""

    def __init__(self, seed):
        rng = np.random.default_rng(seed)
        grid = [(0.2 * i, 0.2 * j, 0.12 * ((i + 2 * j) % 3)) for i in range(-4, 5) for j in range(-3, 4)]
        self.true = np.array(grid) + [10.0, 20.0, 5.0]
        self.names = [f"T{i:02d}" for i in range(len(grid))]
        self.surveyed = np.round(self.true + rng.normal(0, CONTROL_M, self.true.shape), 5)
        self.stations, self.cameras = [], []
        for i in range(26):
            azimuth, tilt = 2 * np.pi * i / 26, 0.55 if i % 3 else 0.1
            aim = np.array([10.0, 20.0, 5.0]) + rng.normal(0, 0.1, 3) * [1, 1, 0]
            C = aim + 2.4 * np.array([np.sin(tilt) * np.sin(azimuth), np.sin(tilt) * np.cos(azimuth), np.cos(tilt)])
            back = (C - aim) / np.linalg.norm(C - aim)
            right = np.cross([0.3, 1, 0.1], back)
            right /= np.linalg.norm(right)
            R = np.column_stack([right, np.cross(back, right), back])
            roll = (i % 4) * np.pi / 2
            R = R @ np.array([[np.cos(roll), -np.sin(roll), 0], [np.sin(roll), np.cos(roll), 0], [0, 0, 1]])
            angles = [np.arctan2(-R[1, 2], R[2, 2]), np.arcsin(R[0, 2]), np.arctan2(-R[0, 1], R[0, 0])]
            self.stations.append(np.concatenate([C, angles]))
            self.cameras.append("left" if i < 13 else "right")
        self.observed = []  # photo, point, x, y
        for i, station in enumerate(self.stations):
            x = seen(TRUE[self.cameras[i]], station, self.true)
            for k in np.flatnonzero((x > 5).all(axis=1) & (x < [1595, 1195]).all(axis=1)):
                self.observed.append([i, k, *(x[k] + rng.normal(0, NOISE_PX, 2)).round(4)])
        self.gross = []
        for at, shift in ((200, 1.5), (700, -2.0)):
            self.observed[at][2] += shift
            self.gross.append((f"P{self.observed[at][0]:02d}", self.names[self.observed[at][1]]))
        self.start = [s + rng.normal(0, [0.01] * 3 + [0.004] * 3) for s in self.stations]

    def write(self, where, control):
        """Files for the program; points beyond the first `control` (None: all are control) are ties."""
        where.mkdir()
        with open(where / "stations.csv", "w", newline="", encoding="utf-8") as file:
            out = csv.writer(file)
            out.writerow("image,sortie,camera,east,north,height,omega,phi,kappa".split(","))
            for i, s in enumerate(self.start):
                out.writerow([f"P{i:02d}", "board", self.cameras[i], *s[:3].round(5), *np.degrees(s[3:]).round(8)])
        (where / "cameras.json").write_text(
            json.dumps({name: {"model": "brown", "k3": 0, "b1": 0, "b2": 0, **c} for name, c in START.items()})
        )
        chosen = range(len(self.names)) if control is None else control
        with open(where / "control.csv", "w", encoding="utf-8") as file:
            file.write("id,east,north,height,role,sigma_h,sigma_v\n")
            for k in chosen:
                file.write(f"{self.names[k]},{','.join(f'{v:.5f}' for v in self.surveyed[k])},control,{CONTROL_M},{CONTROL_M}\n")
        for name, inside in (("sightings.csv", True), ("ties.csv", False)):
            with open(where / name, "w", encoding="utf-8") as file:
                file.write("image,point,x,y,sigma\n")
                for i, k, x, y in self.observed:
                    if (k in chosen) == inside:
                        file.write(f"P{i:02d},{self.names[k]},{x:.4f},{y:.4f},{NOISE_PX}\n")

    def adjust(self, without, control=None):
        """Interior orientation and its sigmas by this file's own least squares, observations `without` left out."""
        kept = [o for o in self.observed if (f"P{o[0]:02d}", self.names[o[1]]) not in without]
        photo, point = np.array([o[0] for o in kept]), np.array([o[1] for o in kept])
        x = np.array([o[2:] for o in kept])
        chosen = list(range(len(self.names))) if control is None else list(control)
        lenses, n = list(TRUE), len(self.start)
        unknowns = np.concatenate(
            [np.concatenate(self.start), [START[c][k] for c in lenses for k in FREE], self.surveyed.ravel()]
        )

        def residuals(p):
            stations, X = p[: 6 * n].reshape(n, 6), p[6 * n + 14 :].reshape(-1, 3)
            cameras = {c: {**START[c], **dict(zip(FREE, p[6 * n + 7 * j :][:7]))} for j, c in enumerate(lenses)}
            out = np.empty_like(x)
            for i in range(n):
                mine = photo == i
                out[mine] = seen(cameras[self.cameras[i]], stations[i], X[point[mine]])
            return np.concatenate([((out - x) / NOISE_PX).ravel(), ((X - self.surveyed)[chosen] / CONTROL_M).ravel()])

        for _ in range(8):
            v = residuals(unknowns)
            J = np.empty((len(v), len(unknowns)))
            for k in range(len(unknowns)):
                moved = unknowns.copy()
                step = 1e-6 * max(1.0, abs(unknowns[k]))
                moved[k] += step
                J[:, k] = (residuals(moved) - v) / step
            N = J.T @ J
            scale = 1 / np.sqrt(N.diagonal())
            Q = np.linalg.inv(N * np.outer(scale, scale)) * np.outer(scale, scale)
            unknowns = unknowns - Q @ (J.T @ v)
        at = 6 * n
        return unknowns[at : at + 14].reshape(2, 7), np.sqrt(Q.diagonal()[at : at + 14]).reshape(2, 7)


def admitted(name, board, control):
    files, where = WORK / f"{name}-files", WORK / name
    board.write(files, control)
    good("new", where, "--crs", "local")
    good("admit", "--listing", files / "stations.csv", "--cameras", files / "cameras.json", "-s", where)
    if control is not None:
        good("tie", "--import", files / "ties.csv", "-s", where)
    good("control", files / "control.csv", "-s", where)
    good("sight", "--import", files / "sightings.csv", "-s", where)
    return where


def compare(where, answer, expected, sigmas):
    cameras = json.loads((where / "results" / "cameras.json").read_text())
    calibration = {c["camera"]: {p["name"]: p for p in c["parameters"]} for c in answer["calibration"]}
    for j, name in enumerate(TRUE):
        for k, parameter in enumerate(FREE):
            off = (cameras[name][parameter] - expected[j, k]) / sigmas[j, k]
            ratio = calibration[name][parameter]["sigma"] / sigmas[j, k]
            assert abs(off) < 0.05, f"{name} {parameter}: {off:.3f} sigma off"
            assert abs(ratio - 1) < 0.02, f"{name} {parameter}: sigma is {ratio:.4f} times the expected one"
        assert cameras[name]["k3"] == 0


def test_all_points_are_control_and_there_are_no_ties():
    board = Board(1)
    where = admitted("control", board, None)
    answer = good("adjust", "--free", ",".join(FREE), "-s", where)
    worst = [(s["image"], s["id"]) for s in answer["suspects"] if s["kind"] == "sighting"]
    assert set(worst[:2]) == set(board.gross), f"{worst[:4]}, not {board.gross}"
    answer = good("adjust", "--free", ",".join(FREE), "--snoop", "-s", where)
    aside = {a["item"] for a in answer["set_aside"]}
    assert aside == {f"{point}@{photo}" for photo, point in board.gross}, aside
    assert answer["tie_points"] == 0 and answer["photos"] == 26
    compare(where, answer, *board.adjust(set(board.gross)))
    good("report", "-s", where)
    made = good("run", "-s", where)  # with the parameters of survey.toml, no ties, no orientation and no cloud
    assert made["adjust"]["did"] == "made" and not {"tie", "orient", "densify"} & set(made), list(made)


def test_four_control_points_and_the_rest_as_ties():
    board = Board(2)
    control = [0, 8 * 7, 6, 9 * 7 - 1]
    where = admitted("ties", board, control)
    good("orient", "-s", where)
    answer = good("adjust", "--free", ",".join(FREE), "-s", where)
    residuals = where / "results" / "residuals.csv"
    good("export", "residuals", "-s", where)
    rejected = {(r["image"], r["point"]) for r in rows(residuals) if r["accepted"] == "0"}
    assert set(board.gross) <= rejected
    # The same observations: those that were rejected are left out of the other adjustment too.
    compare(where, answer, *board.adjust(rejected, control))


BORESIGHT = (0.011, -0.007, 0.016)  # rad: 1.2 degrees


def turned(angles, vector):
    """Angles of R turned by a small vector behind it, both in the camera frame; to the second order in the vector."""
    x, y, z = vector
    S = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    u, _, v = np.linalg.svd(rotation(*angles) @ (np.eye(3) + S + S @ S / 2))
    R = u @ v
    return np.array([np.arctan2(-R[1, 2], R[2, 2]), np.arcsin(R[0, 2]), np.arctan2(-R[0, 1], R[0, 0])])


def test_a_listing_with_sigmas_is_observed_and_its_common_turn_found():
    """No control at all: positions of 2 mm and attitudes of 0.06 degrees hold the block, one attitude is 2 degrees off."""
    board = Board(3)
    rng = np.random.default_rng(8)
    board.start = [
        np.concatenate([s[:3] + rng.normal(0, 0.002, 3), turned(s[3:], BORESIGHT + rng.normal(0, 0.001, 3))])
        for s in board.stations
    ]
    board.start[4][3:] = turned(board.start[4][3:], (0.035, 0, 0))
    files, where = WORK / "listed-files", WORK / "listed"
    board.write(files, [])
    with open(files / "stations.csv", encoding="utf-8") as file:
        lines = file.read().splitlines()
    sigmas = [",sigma_h,sigma_v,sigma_angle"] + [f",0.002,0.002,{np.degrees(0.001):.5f}"] * 26
    (files / "stations.csv").write_text("\n".join(a + b for a, b in zip(lines, sigmas)) + "\n")
    good("new", where, "--crs", "local")
    good("admit", "--listing", files / "stations.csv", "--cameras", files / "cameras.json", "-s", where)
    good("tie", "--import", files / "ties.csv", "-s", where)
    answer = good("adjust", "--free", ",".join(FREE), "-s", where)
    count = {g["name"]: g["n"] for g in answer["groups"]}
    assert count["positions"] == 78 and count["attitudes"] == 78, count
    worst = answer["suspects"][0]
    assert (worst["item"], worst["component"]) == ("attitude@P04", "x"), answer["suspects"][:3]
    assert abs(worst["size"] - np.degrees(0.035)) < 4 * np.degrees(0.001) + 0.1, worst
    answer = good("adjust", "--free", ",".join(FREE), "--without", "attitude@P04", "-s", where)
    assert {g["name"]: g["n"] for g in answer["groups"]}["attitudes"] == 75
    sortie = answer["sorties"][0]
    for axis in range(3):  # positions of millimetres and 25 attitudes know it to 0.01 degrees or so: four sigma
        off = sortie["boresight_deg"][axis] - np.degrees(BORESIGHT[axis])
        assert abs(off) < 4 * sortie["sigma_boresight_deg"][axis], (axis, off, sortie)
        assert sortie["sigma_boresight_deg"][axis] < 0.05
    found = {r["image"]: np.array([float(r[c]) for c in ("east", "north", "height")]) for r in rows(where / "results" / "stations.csv")}
    apart = np.array([found[f"P{i:02d}"] - s[:3] for i, s in enumerate(board.stations)])
    # Ties hold the block together to some tenths of a millimetre; 26 positions of 2 mm place it to 0.4 mm an axis, four
    # sigma of which are allowed, and the offset that they might have in common stays at its prior, which is nought.
    assert np.abs(apart).max() < 0.0025, np.abs(apart).max(axis=0)
    assert np.abs(sortie["offset"]).max() < 0.0002 and max(sortie["sigma_offset"]) < 0.051, sortie
    tested = [r for r in rows(where / "results" / "reliability.csv") if r["kind"] == "attitude"]
    assert len(tested) == 75 and {r["unit"] for r in tested} == {"deg"}


def test_sigmas_of_a_listing_that_are_none_are_refused():
    board = Board(3)
    files, where = WORK / "zero-files", WORK / "zero"
    board.write(files, [])
    good("new", where, "--crs", "local")
    text = (files / "stations.csv").read_text().splitlines()
    for sigma in ("0", "-0.1"):
        (files / "stations.csv").write_text("\n".join([text[0] + ",sigma_angle"] + [line + "," + sigma for line in text[1:]]) + "\n")
        result = call("admit", "--listing", files / "stations.csv", "--cameras", files / "cameras.json", "-s", where)
        assert result.code == 3 and "not greater than 0" in result.last, result.err


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
