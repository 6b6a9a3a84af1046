#!/usr/bin/python3
"""Clouds and depth maps against the made-up site's true surface, from true stations and cameras that a listing gives: no
orientation, no adjustment. By the built program: usage as in harness.py."""
import json
import shutil
import struct
import sys
import time
from pathlib import Path

import numpy as np
from geometry import rotation
from harness import SMALL, call, folder, good, rows, run_all
from osgeo import gdal

sys.path.insert(0, str(Path(__file__).parents[2] / "scripts"))
from truth import Surface, grid_scale, read_las  # noqa: E402  (shares no code with the program)

WORK = folder()
SURVEY = WORK / "s"
TRUE = {r["image"]: r for r in rows(SMALL / "truth" / "stations.csv")}
SURFACE = Surface(SMALL / "truth" / "surface.tif")


def listed():
    """The good photos with their true stations, tied and densified."""
    bad = {r["image"] for r in rows(SMALL / "truth" / "bad_photos.csv")}
    kept = [r for r in TRUE.values() if r["image"] not in bad]
    text = ",".join(kept[0]) + "\n" + "".join(",".join(r.values()) + "\n" for r in kept)
    (WORK / "stations.csv").write_text(text)
    good("new", SURVEY, "--crs", "EPSG:25833+5773")
    for sortie in ("grid", "cross"):
        good("admit", SMALL / "photos" / sortie, "--sortie", sortie, "-s", SURVEY)
    early = call("densify", "-s", SURVEY)
    assert early.code == 3 and "adjust has not run" in early.last, early.last
    good("admit", "--listing", WORK / "stations.csv", "--cameras", SMALL / "truth" / "cameras.json", "-s", SURVEY)
    untied = call("densify", "-s", SURVEY)
    assert untied.code == 3 and "mesograph tie" in untied.last, untied.last
    good("tie", "-s", SURVEY)
    return good("densify", "--level", 0, "-s", SURVEY)


ANSWER = listed()
GSD = ANSWER["spacing"] / 2


def las_columns():
    """Rays, sigma_match and sigma_z, by the standard's offsets: the extra bytes follow the 36 of format 7."""
    data = np.frombuffer((SURVEY / "results" / "cloud.las").read_bytes(), dtype=np.uint8)
    first, length = struct.unpack_from("<I", data, 96)[0], struct.unpack_from("<H", data, 105)[0]
    raw = data[first:].reshape(-1, length)
    return raw[:, 36], *(raw[:, at : at + 4].copy().view("<f4")[:, 0] for at in (37, 41))


def test_the_cloud_lies_on_the_true_surface_without_bias():
    xyz, rays, wkt, _ = read_las(SURVEY / "results" / "cloud.las")
    assert "COMPD_CS" in wkt and len(xyz) == ANSWER["points"] and ANSWER["check_heights"] is None
    error = xyz[:, 2] - SURFACE.at(xyz[:, 0], xyz[:, 1])
    flat = np.isfinite(error)
    # Photos of a hundredth of a camera's pixels, two or three to a place: the figures of whole surveys are in docs/methods.md.
    assert np.median(np.abs(error[flat])) < 0.5 * GSD and abs(np.median(error[flat])) < 0.15 * GSD
    assert np.mean(np.abs(error[flat]) < 3 * GSD) > 0.9
    assert rays.min() == 2 and rays.max() > 3


def test_sigmas_are_those_of_errors_and_stations_that_are_given_add_nothing():
    xyz, _, _, _ = read_las(SURVEY / "results" / "cloud.las")
    rays, matching, total = las_columns()
    assert np.array_equal(matching, total) and (matching > 0).all()
    error = np.abs(xyz[:, 2] - SURFACE.at(xyz[:, 0], xyz[:, 1]))
    within = np.nanmean(error[rays > 2] < matching[rays > 2])
    assert 0.5 < within < 0.8, within  # a normal distribution has 0.68


def test_depth_of_a_photo_leads_to_the_true_surface():
    image = "G0002.jpg"
    good("export", "depth", "--image", image, "-s", SURVEY)
    data = gdal.Open(str(SURVEY / "results" / "depth" / "G0002.tif"))
    depth, sigma = (data.GetRasterBand(b).ReadAsArray() for b in (1, 2))
    assert depth.shape == (360, 480) and np.isnan(depth).any() and np.isfinite(depth).mean() > 0.3
    assert np.array_equal(np.isnan(depth), np.isnan(sigma)) and np.nanmin(sigma) >= 0
    # Depths lie between pixels: none is repeated in the next row or column where distortion is taken out.
    assert np.mean(np.diff(depth, axis=0) == 0) < 1e-3 and np.mean(np.diff(depth, axis=1) == 0) < 1e-3
    # Back to the ground by this file's own rays: distortion taken out by a fixed point, lengths brought to the grid.
    station, camera = TRUE[image], json.loads((SMALL / "truth" / "cameras.json").read_text())[TRUE[image]["camera"]]
    row, col = np.nonzero(np.isfinite(depth))
    ud, wd = (col + 0.5 - 240 - camera["x0"]) / camera["c"], (row + 0.5 - 180 - camera["y0"]) / camera["c"]
    u, w = ud.copy(), wd.copy()
    for _ in range(20):
        r2 = u * u + w * w
        grow = 1 + camera["k1"] * r2 + camera["k2"] * r2**2 + camera["k3"] * r2**3
        u = (ud - camera["p1"] * (r2 + 2 * u * u) - 2 * camera["p2"] * u * w) / grow
        w = (wd - camera["p2"] * (r2 + 2 * w * w) - 2 * camera["p1"] * u * w) / grow
    v = np.column_stack([u, -w, -np.ones_like(u)]) * depth[row, col][:, None]
    X = v @ rotation(*np.radians([float(station[a]) for a in ("omega", "phi", "kappa")])).T
    k = grid_scale(float(station["east"]))
    east, north = float(station["east"]) + k * X[:, 0], float(station["north"]) + k * X[:, 1]
    error = float(station["height"]) + X[:, 2] - SURFACE.at(east, north)
    assert np.nanmedian(np.abs(error)) < 0.6 * GSD, np.nanmedian(np.abs(error)) / GSD
    for words, code, said in ((["--image", "G9.jpg"], 3, "is not in this survey"), ([], 2, "needs a photo")):
        refused = call("export", "depth", *words, "-s", SURVEY)
        assert refused.code == code and said in refused.last, refused.last


def test_a_site_laid_on_its_side_gives_the_same_cloud():
    # A local frame whose z is the site's north: all photos look along the level.
    side = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])
    where, origin = WORK / "side", np.array([431200.0, 6822400.0, 640.0])
    k = grid_scale(origin[0])
    text = "image,sortie,camera,east,north,height,omega,phi,kappa\n"
    for r in rows(WORK / "stations.csv"):
        C = (np.array([float(r[a]) for a in ("east", "north", "height")]) - origin) / [k, k, 1]
        R = side @ rotation(*np.radians([float(r[a]) for a in ("omega", "phi", "kappa")]))
        angles = np.degrees([np.arctan2(-R[1, 2], R[2, 2]), np.arcsin(R[0, 2]), np.arctan2(-R[0, 1], R[0, 0])])
        numbers = ",".join(f"{v:.8f}" for v in [*(side @ C), *angles])
        text += f"{r['image']},{r['sortie']},{r['camera']},{numbers}\n"
    (WORK / "side.csv").write_text(text)
    good("new", where, "--crs", "local")
    for sortie in ("grid", "cross"):
        good("admit", SMALL / "photos" / sortie, "--sortie", sortie, "-s", where)
    good("admit", "--listing", WORK / "side.csv", "--cameras", SMALL / "truth" / "cameras.json", "-s", where)
    good("tie", "-s", where)
    answer = good("densify", "--level", 0, "-s", where)
    # Columns of the level cut a standing surface otherwise than a lying one.
    assert abs(answer["points"] / ANSWER["points"] - 1) < 0.25, (answer["points"], ANSWER["points"])
    data = np.frombuffer((where / "results" / "cloud.las").read_bytes(), dtype=np.uint8)
    first, length = struct.unpack_from("<I", data, 96)[0], struct.unpack_from("<H", data, 105)[0]
    scale, offset = (np.array(struct.unpack_from("<3d", data, at)) for at in (131, 155))
    xyz = (data[first:].reshape(-1, length)[:, :12].copy().view("<i4") * scale + offset) @ side * [k, k, 1] + origin
    error = xyz[:, 2] - SURFACE.at(xyz[:, 0], xyz[:, 1])
    assert np.nanmedian(np.abs(error)) < 0.5 * GSD and abs(np.nanmedian(error)) < 0.15 * GSD


def adjusted():
    """The same photos oriented and adjusted with control, their cloud from what came out."""
    where = WORK / "adjusted"
    good("new", where, "--crs", "EPSG:25833+5773")
    for sortie in ("grid", "cross"):
        good("admit", SMALL / "photos" / sortie, "--sortie", sortie, "-s", where)
    good("control", SMALL / "control.csv", "-s", where)
    good("sight", "--import", SMALL / "sightings.csv", "-s", where)
    for stage in ("tie", "orient", "adjust"):
        good(stage, "-s", where)
    return where, good("densify", "--level", 0, "-s", where)


def test_heights_at_surveyed_points_and_the_share_of_the_block():
    where, answer = adjusted()
    xyz, _, _, _ = read_las(where / "results" / "cloud.las")
    errors, reach = [], 3 * answer["spacing"]
    for r in rows(SMALL / "control.csv"):
        d = xyz - [float(r[a]) for a in ("east", "north", "height")]
        near = d[(np.hypot(d[:, 0], d[:, 1]) < reach) & (np.abs(d[:, 2]) < 10 * reach)]
        if len(near) >= 6:
            errors.append(np.linalg.lstsq(np.column_stack([np.ones(len(near)), near[:, :2]]), near[:, 2], rcond=None)[0][0])
    heights = answer["check_heights"]
    # Points at the rim of the reach may fall on the other side of it by the file's millimetre.
    assert abs(heights["count"] - len(errors)) <= 1 and heights["count"] > 20, (heights, len(errors))
    assert abs(heights["mean"] - np.mean(errors)) < 0.005 and abs(heights["rmse"] - np.sqrt(np.mean(np.square(errors)))) < 0.005
    raw = np.frombuffer((where / "results" / "cloud.las").read_bytes(), dtype=np.uint8)
    first, length = struct.unpack_from("<I", raw, 96)[0], struct.unpack_from("<H", raw, 105)[0]
    matching, total = (raw[first:].reshape(-1, length)[:, at : at + 4].copy().view("<f4")[:, 0] for at in (37, 41))
    share = np.sqrt(np.maximum(total.astype(float) ** 2 - matching.astype(float) ** 2, 0))
    assert (total >= matching).all() and (share > 0).mean() > 0.99
    # A check's error is predicted from the same stations, with its own rays and survey on top.
    predicted = np.median([float(r["sigma_d_height"]) for r in rows(where / "results" / "checks.csv")])
    assert 0.2 < np.median(share) / predicted < 1.5, (np.median(share), predicted)
    assert (share.max() < 20 * np.median(share)) and np.ptp(share) > 0.1 * np.median(share)


def test_an_adjustment_out_of_date_is_refused_unless_forced():
    where = WORK / "adjusted"
    control = (where / "inputs" / "control.csv").read_text()
    (where / "inputs" / "control.csv").write_text(control.replace(",check,", ",off,", 1))
    cloud = (where / "results" / "cloud.las").read_bytes()
    refused = call("densify", "--level", 0, "--spacing", 0.5, "-s", where)
    assert refused.code == 3 and "run mesograph adjust" in refused.last and "--force" in refused.last, refused.last
    assert (where / "results" / "cloud.las").read_bytes() == cloud
    assert good("densify", "--level", 0, "--spacing", 0.5, "--force", "-s", where)["spacing"] == 0.5
    # What photos gave by other rules is kept until somebody wants it gone.
    good("densify", "--level", 0, "--min-views", 3, "--force", "-s", where)
    assert len(list((where / "store" / "points").iterdir())) > len(list((where / "store" / "depth").iterdir()))
    good("densify", "--level", 0, "--min-views", 3, "--sweep", "--force", "-s", where)
    assert len(list((where / "store" / "points").iterdir())) <= len(list((where / "store" / "depth").iterdir()))
    good("adjust", "--fix-camera", "-s", where)  # options of one call are not out of date
    good("densify", "--level", 0, "--spacing", 0.5, "-s", where)


def test_regions_tiles_and_ply_hold_the_points_of_the_whole():
    whole = read_las(SURVEY / "results" / "cloud.las")[0]
    # Half a millimetre off whole ones, which the file's coordinates are: a point beside the edge is not rounded onto it.
    low, high = (np.percentile(whole[:, :2], p, axis=0).round() + 0.0005 for p in (35, 65))
    box = ",".join(f"{v:.4f}" for v in (*low, *high))
    inside = whole[((whole[:, :2] >= low) & (whole[:, :2] < high)).all(axis=1)]
    maps = {p: p.stat().st_mtime_ns for p in (SURVEY / "store" / "depth").iterdir()}
    part = good("densify", "--level", 0, "--within", box, "--out", WORK / "part.las", "-s", SURVEY)
    assert np.array_equal(read_las(WORK / "part.las")[0], inside) and part["points"] == len(inside) > 1000
    # The same box as a file in degrees, and as PLY.
    file = WORK / "box.geojson"
    corners = [[low[0], low[1]], [high[0], low[1]], [high[0], high[1]], [low[0], high[1]], [low[0], low[1]]]
    crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::25833"}}
    polygon = {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [corners]}}
    file.write_text(json.dumps({"type": "FeatureCollection", "crs": crs, "features": [polygon]}))
    good("densify", "--level", 0, "--within", file, "--out", WORK / "part.ply", "-s", SURVEY)
    ply = (WORK / "part.ply").read_bytes()
    body = np.frombuffer(ply[ply.index(b"end_header\n") + 11 :], dtype=np.uint8).reshape(-1, 48)
    assert np.abs(body[:, :24].copy().view("<f8") - inside).max() < 0.00051
    normals = body[:, 24:36].copy().view("<f4")
    assert np.median(normals[:, 2]) > 0.9
    tiled = good("densify", "--level", 0, "--tiles", 40, "--out", WORK / "tiled.las", "-s", SURVEY)
    index = rows(WORK / "tiled" / "index.csv")
    parts = [read_las(WORK / "tiled" / r["file"])[0] for r in index]
    assert sum(int(r["points"]) for r in index) == tiled["points"] == len(whole)
    for r, xyz in zip(index, parts):
        assert len(xyz) == int(r["points"]) and xyz[:, 0].min() > float(r["west"]) - 0.0006
        assert xyz[:, 1].max() < float(r["north"]) + 0.0006  # as they were before they were rounded
    assert np.array_equal(np.unique(np.vstack(parts), axis=0), np.unique(whole, axis=0))
    # Depth maps were made once.
    assert maps == {p: p.stat().st_mtime_ns for p in (SURVEY / "store" / "depth").iterdir()}


def test_a_compressed_cloud_is_the_plain_one_to_the_bit_whatever_is_done_to_it():
    plain, packed, back = SURVEY / "results" / "cloud.las", WORK / "packed.laz", WORK / "back.las"
    everything = ["--box", "0,0,1,1", "--outside"]
    good("cloud", "cut", plain, *everything, "--out", packed)
    good("cloud", "cut", packed, *everything, "--out", back)
    assert back.read_bytes() == plain.read_bytes() and packed.stat().st_size < 0.4 * plain.stat().st_size
    # LAS 1.4 R15, table 3; the compressor's mark on the format, its record behind the others.
    head = packed.read_bytes()[:2000]
    assert head[104] == 7 | 128 and b"laszip encoded" in head and struct.unpack_from("<Q", head, 247)[0] == ANSWER["points"]
    one = packed.read_bytes()
    good("cloud", "cut", plain, *everything, "--out", packed, "--threads", 1)
    assert packed.read_bytes() == one
    for action in (["clean"], ["thin", "--spacing", "0.5"], ["ground"]):
        of_plain, of_packed = good("cloud", action[0], plain, *action[1:], "--out", WORK / "p.las"), good("cloud", action[0], packed, *action[1:])
        assert of_packed["file"].endswith(f"_{action[0]}.laz") and of_plain["points"] == of_packed["points"]
        good("cloud", "cut", of_packed["file"], *everything, "--out", back)
        assert back.read_bytes() == (WORK / "p.las").read_bytes(), action
    good("densify", "--level", 0, "-s", SURVEY, "--out", WORK / "made.laz")
    good("cloud", "cut", WORK / "made.laz", *everything, "--out", back)
    assert back.read_bytes() == plain.read_bytes()
    packed.write_bytes(one[: len(one) // 2])
    damaged = call("cloud", "describe", packed)
    assert damaged.code == 3 and "packed.laz" in damaged.last and "cut off" in damaged.last, damaged.last
    # Tiles too, which are one cloud again.
    tiled = good("densify", "--level", 0, "--tiles", 40, "-s", SURVEY, "--out", WORK / "t.laz")
    names = [r["file"] for r in rows(WORK / "t" / "index.csv")]
    assert len(names) > 2 and all(n.endswith(".laz") and (WORK / "t" / n).exists() for n in names)
    good("cloud", "cut", WORK / "t", *everything, "--out", back)
    records = lambda path: np.sort(np.frombuffer(path.read_bytes(), np.uint8, offset=struct.unpack_from("<I", path.read_bytes(), 96)[0]).view("V45"))
    assert tiled["points"] == ANSWER["points"] and np.array_equal(records(back), records(plain))
    ply = call("densify", "--level", 0, "--tiles", 20, "-s", SURVEY, "--out", WORK / "u.ply")
    assert ply.code == 3 and "in one file as .ply" in ply.last and not (WORK / "u").exists(), ply.last


def test_regions_and_spacings_that_cannot_be_are_refused_with_figures():
    for words, said in (
        (["--within", "1,2,3,4"], "no photo shows ground within 1,2,3,4"),
        (["--within", WORK / "none.shp"], "no such file"),
        (["--spacing", 0.001], "finer than the photos show"),
        (["--disk", 0.000001], "depth maps of one photo and its partners need"),
        (["--out", WORK / "cloud.xyz"], "as .las or .laz, or in one file as .ply"),
    ):
        refused = call("densify", "--level", 0, *words, "-s", SURVEY)
        assert refused.code == 3 and said in refused.last, refused.last
    assert call("densify", "--within", "4,2,3,4", "-s", SURVEY).code == 2


def test_a_limited_disk_one_thread_and_three_give_the_same_bytes():
    cloud = (SURVEY / "results" / "cloud.las").read_bytes()
    one_map = max(p.stat().st_size for p in (SURVEY / "store" / "depth").iterdir())
    for words in (["--threads", 1, "--disk", 22 * one_map / 1e9], ["--threads", 3]):
        for kind in ("depth", "points"):
            for p in (SURVEY / "store" / kind).iterdir():
                p.unlink()
        good("densify", "--level", 0, *words, "--out", WORK / "again.las", "-s", SURVEY)
        assert (WORK / "again.las").read_bytes() == cloud
        (WORK / "again.las").unlink()


def test_a_photo_that_changed_or_went_is_named_and_the_rest_stays_done():
    where, photos = WORK / "own", WORK / "photos" / "grid"
    shutil.copytree(SMALL / "photos", WORK / "photos")
    good("new", where, "--crs", "EPSG:25833+5773")
    for sortie in ("grid", "cross"):
        good("admit", WORK / "photos" / sortie, "--sortie", sortie, "-s", where)
    good("admit", "--listing", WORK / "stations.csv", "--cameras", SMALL / "truth" / "cameras.json", "-s", where)
    good("tie", "-s", where)
    photo = photos / "G0002.jpg"
    original = photo.read_bytes()
    photo.write_bytes(original + b"x")
    changed = call("densify", "--threads", 1, "-s", where)
    assert changed.code == 3 and "'G0002.jpg' has changed since" in changed.last, changed.last
    photo.unlink()
    gone = call("densify", "--threads", 1, "-s", where)
    assert gone.code == 3 and "G0002.jpg: is not there any more" in gone.last, gone.last
    assert not (where / "results" / "cloud.las").exists()
    photo.write_bytes(original)
    good("densify", "-s", where)


def test_a_patch_foretells_the_whole():
    patch = good("densify", "--level", 0, "--test-patch", "-s", SURVEY)
    xyz = read_las(SURVEY / "results" / "patch.las")[0]
    assert len(xyz) == patch["points"] < ANSWER["points"] / 2
    assert 0.5 < patch["foretold"]["points"] / ANSWER["points"] < 2, patch
    assert patch["foretold"]["seconds"] is None and patch["foretold"]["las_gb"] > 0  # its maps were there already
    for kind in ("depth", "points"):
        shutil.rmtree(SURVEY / "store" / kind)
    (SURVEY / "results" / "patch.las").unlink()
    started = time.monotonic()
    again = good("densify", "--level", 0, "--test-patch", "-s", SURVEY)
    took = time.monotonic() - started
    assert 0.8 * took < again["foretold"]["seconds"] < 4 * took + 1, (again, took)


def test_one_sortie_alone_and_a_listing_of_other_photos():
    only = good("densify", "--level", 0, "--only", "grid", "--out", WORK / "grid.las", "-s", SURVEY)
    assert 0 < only["points"] < ANSWER["points"]
    nobody = call("densify", "--only", "north", "-s", SURVEY)
    assert nobody.code == 3 and "no such sortie" in nobody.last, nobody.last
    text = (SMALL / "truth" / "cameras.json").read_text().replace('"width": 480', '"width": 640')
    (WORK / "wide.json").write_text(text)
    wrong = call("admit", "--listing", WORK / "stations.csv", "--cameras", WORK / "wide.json", "-s", SURVEY)
    assert wrong.code == 3 and "480 x 360" in wrong.last and "correct cameras.json" in wrong.last, wrong.last


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
