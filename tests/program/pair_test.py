#!/usr/bin/python3
"""A rectified pair of a wall and a board before it, as a calibrated rig takes it: rays meet at a third of a degree, the
right photo is darker. Drawn ray by ray; densified from a listing, without orientation or adjustment, and judged in
disparity. By the built program: usage as in harness.py."""
import json
import sys

import numpy as np
from harness import call, folder, good, run_all
from osgeo import gdal

gdal.UseExceptions()
WORK = folder()
SURVEY = WORK / "s"
WIDTH, HEIGHT, C, BASE = 640, 480, 3000.0, 0.1  # pixels, m
WALL, BOARD = 20.0, 12.0  # m away: disparities of 15 and 25 pixels
EDGES = (-0.5, 0.6, -0.35, 0.45)  # of the board: west, east, lower, upper, m


def texture(x, y, seed):
    """Smooth random grey levels over a plane, three octaves of sizes that pixels resolve."""
    out = np.zeros(x.shape)
    for octave, size in enumerate((0.02, 0.05, 0.13)):
        grid = np.random.default_rng(seed * 10 + octave).uniform(-1, 1, (400, 400))
        u, v = x / size + 200, y / size + 200
        i, j = u.astype(int), v.astype(int)
        a, b = u - i, v - j
        a, b = a * a * (3 - 2 * a), b * b * (3 - 2 * b)
        out += (grid[j, i] * (1 - a) + grid[j, i + 1] * a) * (1 - b) + (grid[j + 1, i] * (1 - a) + grid[j + 1, i + 1] * a) * b
    return 120 + 30 * out


def draw(east):
    """Grey levels and distances of a photo that looks along -z from (east, 0, 0)."""
    col, row = np.meshgrid(np.arange(WIDTH) + 0.5 - WIDTH / 2, np.arange(HEIGHT) + 0.5 - HEIGHT / 2)
    x, y = east + col / C * BOARD, -row / C * BOARD
    on_board = (x > EDGES[0]) & (x < EDGES[1]) & (y > EDGES[2]) & (y < EDGES[3])
    wall = texture(east + col / C * WALL, -row / C * WALL, 1)
    return np.where(on_board, texture(x, y, 2), wall), np.where(on_board, BOARD, WALL)


def write(name, grey):
    noise = np.random.default_rng(len(name)).normal(0, 1.0, grey.shape)
    memory = gdal.GetDriverByName("MEM").Create("", WIDTH, HEIGHT, 3, gdal.GDT_Byte)
    for band in (1, 2, 3):
        memory.GetRasterBand(band).WriteArray(np.clip(np.round(grey + noise), 1, 254).astype(np.uint8))
    gdal.GetDriverByName("PNG").CreateCopy(str(WORK / "photos" / name), memory)


def densified():
    (WORK / "photos").mkdir()
    left, distance = draw(0.0)
    right, other = draw(BASE)
    write("left.png", left)
    write("right.png", 0.8 * right + 5)
    (WORK / "stations.csv").write_text(
        "image,sortie,camera,east,north,height,omega,phi,kappa\n"
        f"left.png,rig,cam,0,0,0,0,0,0\nright.png,rig,cam,{BASE},0,0,0,0,0\n"
    )
    camera = dict(model="brown", direction="ideal_to_image", width=WIDTH, height=HEIGHT, c=C)
    camera.update({k: 0 for k in ("x0", "y0", "k1", "k2", "k3", "p1", "p2", "b1", "b2")})
    (WORK / "cameras.json").write_text(json.dumps({"cam": camera}))
    good("new", SURVEY, "--crs", "local")
    good("admit", WORK / "photos", "--sortie", "rig", "-s", SURVEY)
    good("admit", "--listing", WORK / "stations.csv", "--cameras", WORK / "cameras.json", "-s", SURVEY)
    good("tie", "-s", SURVEY)
    answer = good("densify", "--level", 0, "-s", SURVEY)
    good("export", "depth", "--image", "left.png", "-s", SURVEY)
    bands = gdal.Open(str(SURVEY / "results" / "depth" / "left.tif")).ReadAsArray()
    return answer, distance, other, bands


ANSWER, DISTANCE, OTHER, (DEPTH, SIGMA) = densified()
DISPARITY = C * BASE / DISTANCE
AT = np.arange(WIDTH)[None, :] - DISPARITY  # columns of the right photo
SEEN = AT >= 0
SEEN &= np.take_along_axis(OTHER, np.clip(np.round(AT).astype(int), 0, WIDTH - 1), 1) == DISTANCE
OFF = np.abs(C * BASE / DEPTH - DISPARITY)


def test_what_both_photos_see_is_found_to_a_pixel_of_disparity_and_nearly_all_of_it():
    bad, empty = (OFF > 1) & SEEN, np.isnan(DEPTH) & SEEN
    print(f"bad {bad.sum() / SEEN.sum():.4f}, empty {empty.sum() / SEEN.sum():.4f}, seen {SEEN.mean():.3f}")
    assert bad.sum() < 0.02 * SEEN.sum()
    assert (bad | empty).sum() < 0.05 * SEEN.sum()
    assert np.median(OFF[SEEN & ~np.isnan(DEPTH)]) < 0.1


def test_what_the_board_hides_from_one_photo_stays_empty_for_the_most():
    hidden = ~SEEN
    assert hidden.mean() > 0.02
    filled = (~np.isnan(DEPTH) & hidden).sum()
    assert filled < 0.25 * hidden.sum(), filled / hidden.sum()


def test_sigmas_of_a_narrow_pair_are_those_of_its_errors():
    found = SEEN & ~np.isnan(DEPTH) & (OFF < 1)
    ratio = np.abs(DEPTH - DISTANCE)[found] / SIGMA[found]
    within = np.mean(ratio < 1), np.mean(ratio < 2)
    # Of a normal distribution 68 and 95 %. One pair's noise: neighbours share their windows.
    assert 0.5 < within[0] < 0.95 and within[1] > 0.85, within


def test_the_cloud_holds_wall_and_board_and_next_to_nothing_between():
    answer = good("cloud", "describe", SURVEY / "results" / "cloud.las")
    assert answer["points"] == ANSWER["points"] > 10000
    section = good(
        "cloud", "section", SURVEY / "results" / "cloud.las", "--line", "-1:0,1:0", "--width", 0.2, "--out", WORK / "cut.png"
    )
    lines = (WORK / "cut.csv").read_text().splitlines()[1:]
    height = np.array([float(line.split(",")[1]) for line in lines])
    assert section["points"] == len(lines) > 100
    # Half a pixel of disparity is 0.67 m at the wall, 0.24 m at the board.
    on = (np.abs(height + WALL) < 0.7) | (np.abs(height + BOARD) < 0.3)
    assert on.mean() > 0.97, on.mean()


def test_a_photo_that_is_none_of_the_pair_is_refused_by_name():
    answer = call("export", "depth", "--image", "middle.png", "-s", SURVEY)
    assert answer.code == 3 and "middle.png" in answer.last, answer.last


run_all(sys.modules[__name__])
