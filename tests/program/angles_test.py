#!/usr/bin/python3
"""Exported stations, cameras and points put together again outside the program: by the registry's operations alone
(geocentric places of everything, the grid's north from differences of northing), and by Brown's formula written down
anew. By the built program: usage as in harness.py."""
import json
import shutil
import sys

import numpy as np
from geometry import image, rotation
from harness import folder, good, rows, run_all
from osgeo import osr

osr.UseExceptions()
WORK = folder()


def system(code):
    out = osr.SpatialReference()
    out.SetFromUserInput(code)
    out.SetAxisMappingStrategy(osr.OAMS_TRADITIONAL_GIS_ORDER)
    return out


GEOCENTRIC = osr.CoordinateTransformation(system("EPSG:25833+5773"), system("EPSG:4978"))
GEOGRAPHIC = osr.CoordinateTransformation(system("EPSG:25833+5773"), system("EPSG:4979"))


def geocentric(places):
    return np.array(GEOCENTRIC.TransformPoints(np.asarray(places).tolist()))


def grid_axes(place):
    """East, north, up of the grid at a place, as geocentric columns: up along the ellipsoid's normal, north where the
    northing grows, in the plane across it."""
    longitude, latitude, _ = np.radians(GEOGRAPHIC.TransformPoint(*place))
    up = np.array([np.cos(latitude) * np.cos(longitude), np.cos(latitude) * np.sin(longitude), np.sin(latitude)])
    ends = geocentric([place - [0, 50, 0], place + [0, 50, 0]])
    north = ends[1] - ends[0]
    north -= up * (north @ up)
    north /= np.linalg.norm(north)
    return np.column_stack([np.cross(north, up), north, up])


def test_exported_places_and_angles_make_the_image_points():
    block, survey = WORK / "block", WORK / "survey"
    good("simulate", block, "--no-photos", "--photos", "24", "--points", "150", "--gross", "0", "--false-pairs", "0")
    good("new", survey, "--crs", "EPSG:25833+5773")
    good("admit", "--listing", block / "stations.csv", "--cameras", block / "cameras.json", "-s", survey)
    good("tie", "--import", block, "--pairs", "none", "-s", survey)
    good("orient", "-s", survey)
    for what in ("stations", "cameras", "points", "residuals"):
        good("export", what, "-s", survey)
    results = survey / "results"
    cameras = json.loads((results / "cameras.json").read_text())
    table = [r for r in rows(results / "points.csv")]
    place = {r["point"]: np.array([float(r[k]) for k in ("east", "north", "height")]) for r in table}
    where = dict(zip(place, geocentric(list(place.values()))))
    seen = {}
    for r in rows(results / "residuals.csv"):
        if r["point"] in where:
            adjusted = [float(r["x"]) + float(r["vx"]), float(r["y"]) + float(r["vy"])]
            seen.setdefault(r["image"], []).append((where[r["point"]], adjusted))
    turns, shifts = [], []
    for s in rows(results / "stations.csv"):
        C = np.array([float(s[k]) for k in ("east", "north", "height")])
        axes = grid_axes(C)
        R = axes @ rotation(*np.radians([float(s[k]) for k in ("omega", "phi", "kappa")]))
        X = np.array([p for p, _ in seen[s["image"]]])
        v = (X - geocentric([C])[0]) @ R
        camera = cameras[s["camera"]]
        misfit = (np.array([x for _, x in seen[s["image"]]]) - image(camera, v)).ravel()
        # What turn or shift of the station would explain the misfit: derivatives by differences.
        step, eye = 1e-6, np.eye(3)
        by_turn = np.column_stack([(image(camera, v + step * np.cross(v, e)) - image(camera, v)).ravel() / step for e in eye])
        by_shift = np.column_stack([(image(camera, v - step * e) - image(camera, v)).ravel() / step for e in eye])
        turns.append(np.degrees(np.linalg.lstsq(by_turn, misfit, rcond=None)[0]))
        shifts.append(np.linalg.lstsq(by_shift, misfit, rcond=None)[0])
        assert np.abs(misfit).max() < 1e-3, np.abs(misfit).max()
    # Places are written to 0.01 mm, and 3e-6 m of rounding over 55 m of range are 3e-6 degrees of a single photo. An
    # error of the frame is in all of them alike: the mean of 24 is good to 6e-7.
    assert np.abs(np.mean(turns, axis=0)).max() < 1e-6 and np.abs(turns).max() < 1.2e-5, np.mean(turns, axis=0)
    assert np.abs(shifts).max() < 1e-4, np.abs(shifts).max(0)
    # The frame matters at this level: convergence at the site is 1.3 degrees, the geoid's slope some 1e-5.
    assert abs(np.degrees(np.arctan2(*(grid_axes(C).T @ [0, 0, 1])[:2]))) > 0.5


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
