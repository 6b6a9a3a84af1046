#!/usr/bin/python3
"""Meshes by the built program: their files as other readers read them, where they lie, what is refused: usage as in harness.py."""
import csv
import hashlib
import json
import resource
import signal
import struct
import subprocess
import sys
import time
import xml.etree.ElementTree as tree

import numpy as np
from harness import PROGRAM, SMALL, adjusted_survey, call, folder, good, items, new_survey, run_all
from osgeo import gdal, ogr, osr

gdal.UseExceptions()
WORK = folder()
SITE = adjusted_survey(WORK / "site")
good("densify", "-s", SITE)
MADE = good("mesh", "-s", SITE, "--formats", "glb,obj,ply,stl", "--no-page")
RESULTS = SITE / "results"


def glb(path):
    """JSON and binary chunk of a binary glTF (glTF 2.0, 4.4)."""
    data = path.read_bytes()
    magic, version, length, first, kind = struct.unpack_from("<4sIII4s", data)
    assert (magic, version, length, kind) == (b"glTF", 2, len(data), b"JSON")
    return json.loads(data[20 : 20 + first]), data[28 + first :]


def array(model, binary, index, columns):
    accessor = model["accessors"][index]
    view = model["bufferViews"][accessor["bufferView"]]
    kind = {5126: "<f4", 5125: "<u4"}[accessor["componentType"]]
    values = np.frombuffer(binary, kind, accessor["count"] * columns, view["byteOffset"])
    return values.reshape(-1, columns) if columns > 1 else values


def placed(path):
    """All triangles of a .glb as east, north, height, by its own matrix: n x 3 corners x 3; and corners' sigmas."""
    model, binary = glb(path)
    matrix = np.array(model["nodes"][0]["matrix"]).reshape(4, 4).T
    out, sure = [], []
    for part in model["meshes"][0]["primitives"]:
        X = array(model, binary, part["attributes"]["POSITION"], 3).astype(float)
        assert model["accessors"][part["attributes"]["POSITION"]]["min"] == [float(v) for v in X.min(0).astype(np.float32)]
        world = X @ matrix[:3, :3].T + matrix[:3, 3]
        corners = array(model, binary, part["indices"], 1).reshape(-1, 3)
        out.append(np.stack([world[:, 0], -world[:, 2], world[:, 1]], 1)[corners])  # y is up, -z is north
        sure.append(array(model, binary, part["attributes"]["_SIGMA"], 1)[corners])
    return np.concatenate(out), np.concatenate(sure)


def obj(path):
    vertices, faces = [], []
    for line in path.read_text().splitlines():
        words = line.split()
        if words[:1] == ["v"]:
            vertices.append([float(v) for v in words[1:]])
        elif words[:1] == ["f"]:
            faces.append([int(v.split("/")[0]) - 1 for v in words[1:]])
    return np.array(vertices), np.array(faces)


def ply(path):
    data = path.read_bytes()
    end = data.index(b"end_header\n") + 11
    head = data[:end].decode()
    n, m = (int(head.split(f"element {what} ")[1].split("\n")[0]) for what in ("vertex", "face"))
    vertices = np.frombuffer(data, np.dtype([("X", "<f4", 3), ("normal", "<f4", 3), ("rgb", "u1", 3), ("sigma", "<f4")]), n, end)
    faces = np.frombuffer(data, np.dtype([("n", "u1"), ("v", "<i4", 3), ("guess", "u1")]), m, end + n * vertices.itemsize)
    assert end + vertices.nbytes + faces.nbytes == len(data)
    return vertices, faces


def heights(east, north):
    data = gdal.Open(str(SMALL / "truth" / "surface.tif"))
    place, z = data.GetGeoTransform(), data.GetRasterBand(1).ReadAsArray()
    col, row = ((east - place[0]) / place[1]).astype(int), ((north - place[3]) / place[5]).astype(int)
    inside = (col >= 0) & (row >= 0) & (col < z.shape[1]) & (row < z.shape[0])
    return np.where(inside, z[np.where(inside, row, 0), np.where(inside, col, 0)], np.nan)


def test_all_formats_hold_the_same_surface_where_the_site_is():
    level = MADE["levels"][0]
    triangles, sigma = placed(RESULTS / "mesh.glb")
    assert len(triangles) == level["triangles"] and level["charts"] > 5 and level["seam_step_median"] < 4
    middle = triangles.mean(1)
    up = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    area = np.linalg.norm(up, axis=1) / 2
    level_faces = (up[:, 2] / 2 > 0.8 * area) & (sigma > 0).all(1)
    off = np.abs(middle[level_faces, 2] - heights(middle[level_faces, 0], middle[level_faces, 1]))
    # GSD 0.16 m, cells of twice that: half a GSD in the median, as single triangles stray by the tolerance.
    assert level_faces.sum() > 500 and np.nanmedian(off) < 0.1, np.nanmedian(off)
    assert abs(area.sum() / MADE["area"] - 1) < 0.01
    shift = np.array(MADE["shift"])
    assert (shift % 100 == 0).all() and np.abs(middle - shift)[:, :2].max() < 500
    vertices, faces = obj(RESULTS / "mesh.obj")
    same = lambda corners: np.allclose(np.sort(corners.mean(1), 0), np.sort(middle - shift, 0), atol=0.002)
    assert same(vertices[faces])
    points, sides = ply(RESULTS / "mesh.ply")
    assert same(points["X"][sides["v"]].astype(float)) and (sides["n"] == 3).all()
    assert ((points["sigma"][sides["v"]] < 0).any(1) == (sides["guess"] == 1)).all()
    assert 0.5 < points["rgb"].mean() / 100 < 2  # pictures reach vertices
    stl = (RESULTS / "mesh.stl").read_bytes()
    assert len(stl) == 84 + 50 * struct.unpack_from("<I", stl, 80)[0] == 84 + 50 * len(triangles)
    corners = np.frombuffer(stl, np.dtype([("n", "<f4", 3), ("X", "<f4", (3, 3)), ("a", "<u2")]), len(triangles), 84)["X"]
    assert same(corners.astype(float))
    material = (RESULTS / "mesh.mtl").read_text()
    assert "map_Kd mesh_1.jpg" in material and gdal.Open(str(RESULTS / "mesh_1.jpg")).RasterCount == 3
    assert json.loads((RESULTS / "mesh.json").read_text())["shift"] == MADE["shift"]


def test_its_edges_are_sound():
    _, sides = ply(RESULTS / "mesh.ply")
    f = sides["v"]
    directed = np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]])
    assert len(np.unique(directed, axis=0)) == len(directed)  # no edge twice one way: all agree on what is outside
    assert MADE["pieces"] >= 1 and 0 <= MADE["guessed_share"] < 0.3


def test_levels_a_base_and_a_part():
    made = good("mesh", "-s", SITE, "--triangles", "4000,800", "--base", "--plain", "--no-page", "--formats", "ply", "--shift", "none", "--out", WORK / "body")
    assert made["watertight"] and [level["triangles"] <= most for level, most in zip(made["levels"], (4000, 800))] == [True, True]
    assert made["shift"] == [0, 0, 0]
    for name in ("body.ply", "body_2.ply"):
        points, sides = ply(WORK / name)
        f = sides["v"]
        directed = {tuple(e) for e in np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]])}
        assert all((b, a) in directed for a, b in directed), f"{name} is open"
    body = good("volume", "--mesh", WORK / "body.ply")
    # Between the surface and its base, 5 % of the extent below the lowest place: by the plan's area and mean height.
    points, sides = ply(WORK / "body.ply")
    corners = points["X"].astype(float)[sides["v"]]
    plan = np.cross(corners[:, 1, :2] - corners[:, 0, :2], corners[:, 2, :2] - corners[:, 0, :2]) / 2
    above = (plan * (corners[:, :, 2].mean(1) - corners[:, :, 2].min())).sum()
    assert abs(body["volume"] / above - 1) < 1e-3 and 0.3 < body["guessed_share"] < 0.9
    refused = call("volume", "--mesh", RESULTS / "mesh.ply")
    assert refused.code == 3 and "is open" in refused.last
    box = good("mesh", "-s", SITE, "--plain", "--no-page", "--formats", "ply")["shift"]
    low, high = points["X"].min(0), points["X"].max(0)
    half = f"{low[0]},{low[1]},{(low[0] + high[0]) / 2},{high[1]}"
    part = good("mesh", "-s", SITE, "--within", half, "--plain", "--no-page", "--formats", "ply", "--out", WORK / "part")
    assert part["area"] < 0.7 * MADE["area"] and box is not None
    seen, sides = ply(WORK / "part.ply")
    # Triangles are whole: none lies wholly beyond the rim, but for half of a lattice's square.
    west = (seen["X"][:, 0] + part["shift"][0])[sides["v"]].min(1)
    assert west.max() < (low[0] + high[0]) / 2 + 0.5


def test_triangles_over_a_raster_for_cad():
    missing = call("mesh", "-s", SITE, "--surface", "ground")
    assert missing.code == 3 and "mesograph surface makes one" in missing.last
    good("surface", "-s", SITE)
    made = good("mesh", "-s", SITE, "--surface", "top", "--tolerance", "0.1", "--plain", "--no-page", "--formats", "dxf,landxml,ply", "--out", WORK / "field")
    data = gdal.Open(str(RESULTS / "surface_top.tif"))
    place, z = data.GetGeoTransform(), data.GetRasterBand(1).ReadAsArray()
    gdal.PushErrorHandler("CPLQuietErrorHandler")  # of each 3DFACE it says that three corners are no closed ring
    drawing = ogr.Open(str(WORK / "field.dxf"))
    entities = drawing.GetLayer(0)
    assert entities.GetFeatureCount() == made["levels"][0]["triangles"] < (z > 0).sum() / 2
    off, shift = [], made["shift"]
    for entity in entities:
        ring = entity.GetGeometryRef().GetGeometryRef(0)
        assert ring.GetPointCount() in (4, 5)
        for k in range(3):
            e, n, h = ring.GetPoint(k)
            col, row = int((e + shift[0] - place[0]) / place[1]), int((n + shift[1] - place[3]) / place[5])
            off.append(abs(h + shift[2] - z[row, col]))
    assert np.median(off) < 0.002  # corners are cells, but where rims are cut
    gdal.PopErrorHandler()
    space = {"x": "http://www.landxml.org/schema/LandXML-1.2"}
    surface = tree.parse(WORK / "field.xml").getroot().find(".//x:Surface", space)
    points = [[float(v) for v in p.text.split()] for p in surface.findall(".//x:P", space)]
    sides = surface.findall(".//x:F", space)
    vertices, faces = ply(WORK / "field.ply")
    assert len(points) == len(vertices) and len(sides) == len(faces)
    assert np.allclose(np.array(points)[:, [1, 0, 2]], vertices["X"], atol=0.002)  # north, east, height


def test_tiles_stand_on_the_earth_where_the_model_does():
    good("mesh", "-s", SITE, "--triangles", "20000,2500", "--no-page", "--formats", "tiles3d,glb", "--out", WORK / "tiled" / "mesh")
    tileset = json.loads((WORK / "tiled" / "tiles3d" / "tileset.json").read_text())
    assert tileset["asset"]["version"] == "1.1"
    root = tileset["root"]
    earth = np.array(root["transform"]).reshape(4, 4).T
    geocentric, plan = osr.SpatialReference(), osr.SpatialReference()
    geocentric.ImportFromEPSG(4978), plan.ImportFromEPSG(25833)
    way = osr.CoordinateTransformation(geocentric, plan)
    whole = placed(WORK / "tiled" / "mesh.glb")[0].mean(1)
    met = 0

    def look_at(tile, depth):
        nonlocal met
        triangles = placed(WORK / "tiled" / "tiles3d" / tile["content"]["uri"])[0]
        box = np.array(tile["boundingVolume"]["box"])
        half = np.array([box[3], box[7], box[11]])
        assert (np.abs(triangles - box[:3]) <= half + 1e-3).all()
        if "children" in tile:
            assert tile["geometricError"] > 0 and tile["refine"] == "REPLACE" and len(tile["children"]) <= 4
            for child in tile["children"]:
                assert child["geometricError"] < tile["geometricError"]
                look_at(child, depth + 1)
            return
        assert depth == 1 and tile["geometricError"] == 0
        middle = triangles.mean(1)
        world = middle @ earth[:3, :3].T + earth[:3, 3]
        for X in world[:: max(1, len(world) // 40)]:
            e, n, _ = way.TransformPoint(*map(float, X))
            nearest = np.abs(whole[:, :2] - [e, n]).max(1).min()
            assert nearest < 0.02, nearest  # the same triangle, but for single precision
            met += 1

    look_at(root, 0)
    assert met > 80


def test_the_same_bytes_for_any_threads_and_after_an_interruption():
    digest = lambda path: hashlib.sha256(path.read_bytes()).hexdigest()
    good("mesh", "-s", SITE, "--no-page", "--out", WORK / "one", "--threads", "1")
    for item in items(SITE, "mesh_parts"):
        item.unlink()
    good("mesh", "-s", SITE, "--no-page", "--out", WORK / "three", "--threads", "3")
    assert digest(WORK / "one.glb") == digest(WORK / "three.glb")


def test_what_cannot_be_is_refused_in_a_sentence():
    for words, code, text in (
        (["--triangles", "100,200"], 2, "most triangles first"),
        (["--triangles", "many"], 2, "is no number of triangles"),
        (["--formats", "dxf"], 2, "--surface ground or top"),
        (["--formats", "fbx"], 2, "there are glb"),
        (["--shift", "1,2"], 2, "--shift is auto"),
        (["--breaklines", "x.gpkg"], 2, "goes with --surface"),
        (["--surface", "top", "--cell", "1"], 2, "takes the raster as it is"),
        (["--within", "0,0,1,1"], 3, "nothing lies within"),
        (["--base-height", "9999"], 3, "is not below the lowest place"),
        (["--tolerance=-1"], 2, "above nought"),
    ):
        done = call("mesh", "-s", SITE, "--no-page", "--plain", *words)
        assert done.code == code and text in done.last, (words, done.code, done.last)
    empty = call("mesh", "-s", new_survey(WORK / "empty"))
    assert empty.code == 3 and "error: " in empty.last


def test_a_full_disk_or_an_interruption_leave_what_was_there():
    good("mesh", "-s", SITE, "--formats", "glb,obj,ply,stl", "--no-page")
    before = {path: path.read_bytes() for path in RESULTS.glob("mesh*")}

    def small_files():
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (30_000, 30_000))

    words = [PROGRAM, "mesh", "-s", str(SITE), "--formats", "glb,obj,ply,stl", "--no-page", "--quiet"]
    full = subprocess.run(words, capture_output=True, text=True, preexec_fn=small_files)
    assert full.returncode == 3 and "cannot be written" in full.stderr.splitlines()[-1], full.stderr
    for item in items(SITE, "mesh_parts"):
        item.unlink()
    stopped = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
    time.sleep(0.7)
    stopped.send_signal(signal.SIGINT)
    _, told = stopped.communicate(timeout=60)
    assert stopped.returncode == 130, (stopped.returncode, told)
    assert not list(SITE.rglob("*.part"))
    assert {path: path.read_bytes() for path in RESULTS.glob("mesh*")} == before
    good("mesh", "-s", SITE, "--formats", "glb,obj,ply,stl", "--no-page")
    assert {path: path.read_bytes() for path in RESULTS.glob("mesh*")} == before


def test_guesses_can_be_left_out():
    all_of_it = good("mesh", "-s", SITE, "--plain", "--no-page", "--formats", "ply", "--out", WORK / "all")
    measured = good("mesh", "-s", SITE, "--measured-only", "--plain", "--no-page", "--formats", "ply", "--out", WORK / "measured")
    assert measured["guessed_share"] == 0 and measured["area"] < all_of_it["area"]
    _, sides = ply(WORK / "measured.ply")
    assert (sides["guess"] == 0).all()
    closed = good("mesh", "-s", SITE, "--close-holes", "0", "--plain", "--no-page", "--formats", "ply", "--out", WORK / "open")
    assert closed["holes_closed"] == 0 < all_of_it["holes_closed"] and closed["holes_left"] > all_of_it["holes_left"]


def test_lengths_on_the_mesh_are_those_that_a_tape_would_find():
    surveyed = {r["id"]: [float(r[k]) for k in ("east", "north", "height")] for r in csv.DictReader(open(SMALL / "control.csv"))}
    ids = sorted(surveyed)[:8]
    # Grid over ground: UTM's scale factor, and what heights near 640 m add to a length.
    scale = 0.9996 * (1 + ((surveyed[ids[0]][0] - 5e5) / 0.9996 / 6.39e6) ** 2 / 2) / (1 + 640 / 6.39e6)
    text = "id,a,b,length,sigma\n"
    for k, (a, b) in enumerate(zip(ids, ids[1:])):
        (x, y, z), (u, v, w) = surveyed[a], surveyed[b]
        text += f"T{k},{a},{b},{(((x - u) ** 2 + (y - v) ** 2) / scale**2 + (z - w) ** 2) ** 0.5:.4f},0.01\n"
    (WORK / "taped.csv").write_text(text)
    found = good("measure", "--lengths", WORK / "taped.csv", "--mesh", RESULTS / "mesh.ply", "-s", SITE)
    assert len(found["lengths"]) == 7 and found["beyond"] == 0
    assert 0.1 < sum(x["w"] ** 2 for x in found["lengths"]) / 7 < 4, found  # of seven, one in a thousand is beyond 3.4
    # A tape that is a foot wrong stands out.
    (WORK / "taped.csv").write_text(text.splitlines()[0] + f"\nT,{ids[0]},{ids[1]},{found['lengths'][0]['taped'] + 0.6},0.01\n")
    told = call("measure", "--lengths", WORK / "taped.csv", "--mesh", RESULTS / "mesh.ply", "-s", SITE)
    assert told.code == 0 and "beyond 3.29" in told.out, told
    # A place of the plan is where the mesh is highest, and its height is that of its triangle.
    (east, north, _) = surveyed[ids[0]]
    on = good("measure", f"{east}:{north}", ids[0], "--mesh", RESULTS / "mesh.ply", "-s", SITE)
    assert on["slope"] < 0.5 and on["from_off_mesh"] == 0
    for words, sentence in [
        (["measure", f"{east}:{north}", ids[0], "-s", SITE], "has no height"),
        (["measure", "1:2", ids[0], "--mesh", RESULTS / "mesh.ply", "-s", SITE], "no part of the mesh lies at 1:2"),
        (["measure", ids[0], ids[1], "--mesh", RESULTS / "mesh.glb", "-s", SITE], "is no PLY file"),
    ]:
        refused = call(*words)
        assert refused.code == 3 and sentence in refused.err, refused


def test_run_makes_it_where_it_is_wanted():
    settings = SITE / "survey.toml"
    settings.write_text(settings.read_text() + '\n[products]\nwant = ["mesh"]\n')
    assert good("run", "-s", SITE)["mesh"]["did"] == "made"
    assert (RESULTS / "model.html").exists()
    assert good("run", "-s", SITE)["mesh"]["did"] == "current"
    (RESULTS / "mesh.glb").unlink()
    assert any(s["name"] == "mesh" and s["state"] != "current" for s in good("status", "-s", SITE)["stages"])


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
