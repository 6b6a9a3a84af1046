#!/usr/bin/python3
"""Actions on LAS clouds, ours and those of other programs, by the built program: usage as in harness.py. Files are made
and read here, by the standard's offsets."""
import http.server
import struct
import subprocess
import sys
import threading
import urllib.request

import numpy as np
from harness import PROGRAM, call, folder, good, rows, run_all
from laz_reader import Octree, read_laz
from osgeo import gdal

WORK = folder()
RNG = np.random.default_rng(4)


def write_las(path, xyz, rgb, classes):
    """LAS 1.2, format 2, as many other programs write it; no coordinate system."""
    scale, offset = 0.001, np.floor(xyz.min(axis=0))
    raw = np.zeros((len(xyz), 26), np.uint8)
    raw[:, :12] = np.round((xyz - offset) / scale).astype("<i4").view(np.uint8).reshape(-1, 12)
    raw[:, 14], raw[:, 15] = 1 | 1 << 3, classes
    raw[:, 20:26] = (rgb.astype("<u2") * 256).view(np.uint8).reshape(-1, 6)
    low, high = (np.round((f(axis=0) - offset) / scale) * scale + offset for f in (xyz.min, xyz.max))
    head = bytearray(227)
    head[:4], head[24], head[25], head[104] = b"LASF", 1, 2, 2
    struct.pack_into("<HII", head, 94, 227, 227, 0)
    struct.pack_into("<H6I", head, 105, 26, len(xyz), len(xyz), 0, 0, 0, 0)
    struct.pack_into("<12d", head, 131, *[scale] * 3, *offset, *np.column_stack([high, low]).ravel())
    path.write_bytes(bytes(head) + raw.tobytes())


def read_las(path):
    data = path.read_bytes()
    first, length = struct.unpack_from("<I", data, 96)[0], struct.unpack_from("<H", data, 105)[0]
    raw = np.frombuffer(data, np.uint8, offset=first).reshape(-1, length)
    scale, offset = np.array(struct.unpack_from("<3d", data, 131)), np.array(struct.unpack_from("<3d", data, 155))
    assert struct.unpack_from("<I", data, 107)[0] == len(raw), "the count in the header"
    return raw[:, :12].copy().view("<i4") * scale + offset, raw


def site():
    """A road on a slope, with a wall of a hut and a boulder beside it; some points in the sky."""
    east, north = (a.ravel() for a in np.meshgrid(np.arange(0, 60, 0.2), np.arange(0, 40, 0.2)))
    height = 600 + 0.4 * north + RNG.normal(0, 0.01, east.size)
    hut = (east > 20) & (east < 27) & (north > 10) & (north < 15)
    height[hut] = 600 + 0.4 * 12.5 + 4
    boulder = np.hypot(east - 45, north - 25) < 1.0
    height[boulder] += 1.2
    xyz = np.column_stack([431200 + east, 6822400 + north, height])
    sky = np.column_stack([431200 + RNG.uniform(0, 60, 9), 6822400 + RNG.uniform(0, 40, 9), np.full(9, 655.0)])
    rgb = np.tile([90, 120, 60], (len(xyz) + 9, 1))
    rgb[: len(xyz)][hut] = [150, 60, 50]
    return np.vstack([xyz, sky]), rgb, np.append(hut | boulder, np.ones(9, bool))


XYZ, RGB, THING = site()
FILE = WORK / "site.las"
write_las(FILE, XYZ, RGB, 0)


def test_describe_says_what_the_points_say():
    answer = good("cloud", "describe", FILE)
    assert answer["points"] == len(XYZ) and answer["las"] == "1.2" and answer["classes"] == {"0": len(XYZ)}
    assert np.allclose(answer["low"], XYZ.min(axis=0), atol=0.0006) and np.allclose(answer["high"], XYZ.max(axis=0), atol=0.0006)
    assert abs(answer["density"] - 25) < 0.5 and answer["colour"] == "16 bit"
    assert [w["text"] for w in answer["warnings"]] == [] or "no coordinate system" in answer["warnings"][0]["text"]
    told = call("cloud", "describe", FILE)
    assert "no coordinate system" in told.err and "never classified" in told.out


def test_cut_takes_box_and_polygon_and_leaves_bytes_as_they_are():
    raw = read_las(FILE)[1]
    good("cloud", "cut", FILE, "--box", "431210,6822405,431230,6822420", "--out", WORK / "in.las")
    good("cloud", "cut", FILE, "--box", "431210,6822405,431230,6822420", "--outside", "--out", WORK / "out.las")
    inside, kept = read_las(WORK / "in.las")
    outside, left = read_las(WORK / "out.las")
    assert len(kept) + len(left) == len(raw) and (inside[:, 0] >= 431210).all() and (inside[:, 1] <= 6822420).all()
    merged = np.vstack([kept, left])
    assert np.array_equal(merged[np.lexsort(merged.T)], raw[np.lexsort(raw.T)])
    nothing = call("cloud", "cut", FILE, "--box", "0,0,1,1", "--out", WORK / "none.las")
    assert nothing.code == 3 and "no point lies in the region" in nothing.last and not (WORK / "none.las").exists()


def test_thin_leaves_one_point_a_cube():
    answer = good("cloud", "thin", FILE, "--spacing", 1, "--out", WORK / "thin.las")
    cubes = np.unique(np.floor(np.round(XYZ, 3)), axis=0)
    xyz, _ = read_las(WORK / "thin.las")
    assert abs(answer["points"] - len(cubes)) <= 3 and len(np.unique(np.floor(xyz), axis=0)) == len(xyz)


def test_clean_then_ground_find_what_stands_on_the_slope():
    good("cloud", "clean", FILE, "--out", WORK / "clean.las")
    xyz, _ = read_las(WORK / "clean.las")
    assert len(xyz) > 0.99 * (len(XYZ) - 9) and xyz[:, 2].max() < 640
    answer = good("cloud", "ground", WORK / "clean.las")
    found, raw = read_las(WORK / "clean_ground.las")
    ground = raw[:, 15] == 2
    assert np.array_equal(found, xyz) and answer["ground"] == ground.sum()
    at = {tuple(p): t for p, t in zip(np.round(XYZ, 3), THING)}
    thing = np.array([at.get(tuple(p), False) for p in np.round(found, 3)])
    assert ground[~thing].mean() > 0.98 and ground[thing].mean() < 0.1, (ground[~thing].mean(), ground[thing].mean())
    assert np.array_equal(raw[:, :15], read_las(WORK / "clean.las")[1][:, :15])


def test_classify_tells_hut_boulder_and_grass_and_is_checked():
    sample = WORK / "sample.csv"
    sample.write_text("east,north,height,class\n431223.5,6822412.5,,6\n431223.1,6822412.1,,2\n431210,6822430,612,2\n")
    answer = good("cloud", "classify", FILE, "--out", WORK / "classes.las", "--check", sample)
    raw = read_las(WORK / "classes.las")[1]
    kind = raw[:, 15] & 31
    hut, boulder = (XYZ[:, 0] > 431220) & (XYZ[:, 0] < 431227) & (XYZ[:, 1] > 6822410) & (XYZ[:, 1] < 6822415), np.hypot(XYZ[:, 0] - 431245, XYZ[:, 1] - 6822425) < 1
    grass, sky = ~hut & ~boulder & (XYZ[:, 2] < 640), XYZ[:, 2] > 640
    assert (kind[hut] == 6).mean() > 0.95 and (kind[boulder] == 2).mean() < 0.1 and (kind[grass] == 2).mean() > 0.98
    assert np.isin(kind[sky], [7, 18]).all(), "points in the sky are noise"
    assert answer["classes"] == {str(k): int(n) for k, n in zip(*np.unique(kind, return_counts=True))}
    assert np.array_equal(np.delete(raw, 15, 1), np.delete(read_las(FILE)[1], 15, 1)), "all else stays byte for byte"
    # Of three places two are right: one that is roof was drawn as ground.
    assert answer["check"]["classes"]["2"] == {"recall": 0.5, "precision": 1.0} and answer["check"]["classes"]["6"]["precision"] == 0.5
    one = good("cloud", "classify", FILE, "--threads", 1, "--out", WORK / "classes1.las")
    assert (WORK / "classes1.las").read_bytes() == (WORK / "classes.las").read_bytes() and one["classes"] == answer["classes"]
    good("cloud", "classify", FILE, "--only", "building", "--out", WORK / "only.las")
    assert set(np.unique(read_las(WORK / "only.las")[1][:, 15])) == {0, 6}
    wrong = call("cloud", "classify", FILE, "--only", "house", "--out", WORK / "none.las")
    assert wrong.code == 2 and "--only house: give some of" in wrong.last
    sample.write_text("east,north,class\n1,2,tree\n")
    wrong = call("cloud", "classify", FILE, "--check", sample, "--out", WORK / "none.las")
    assert wrong.code == 3 and "sample.csv:2" in wrong.last and not (WORK / "none.las").exists()


def test_edits_touch_what_is_selected_and_nothing_else():
    raw = read_las(FILE)[1]
    box = ["--box", "431209.9,6822404.9,431230.1,6822420.1"]
    inside = (XYZ[:, 0] > 431209.9) & (XYZ[:, 0] < 431230.1) & (XYZ[:, 1] > 6822404.9) & (XYZ[:, 1] < 6822420.1)
    answer = good("cloud", "set", FILE, "--set", 9, *box, "--heights", "600,608", "--out", WORK / "set.las")
    chosen = read_las(WORK / "set.las")[1][:, 15] == 9
    assert answer["changed"] == chosen.sum() and np.array_equal(chosen, inside & (np.round(XYZ[:, 2], 3) <= 608))
    good("cloud", "shift", WORK / "set.las", "--class", 9, "--by=-0.12", "--out", WORK / "shift.las")
    moved = read_las(WORK / "shift.las")[0] - read_las(WORK / "set.las")[0]
    assert np.allclose(moved[chosen], [0, 0, -0.12], atol=1e-9) and not moved[~chosen].any()
    good("cloud", "move", FILE, "--by", "100,-50,2", "--out", WORK / "move.las")
    assert np.allclose(read_las(WORK / "move.las")[0] - read_las(FILE)[0], [100, -50, 2], atol=1e-9)
    good("cloud", "cut", WORK / "set.las", "--class", 9, "--out", WORK / "nine.las")
    good("cloud", "cut", WORK / "set.las", "--class", 0, "--out", WORK / "nought.las")
    answer = good("cloud", "join", WORK / "nine.las", WORK / "nought.las", "--out", WORK / "joined.las")
    joined = read_las(WORK / "joined.las")[1]
    assert answer["points"] == len(raw) == len(joined) and (joined[: chosen.sum(), 15] == 9).all()
    assert np.array_equal(np.sort(joined[:, :15], 0), np.sort(raw[:, :15], 0))
    for words, code, text in (
        (["cut", FILE], 2, "cloud cut needs"),
        (["set", FILE, "--set", 300, *box], 2, "--set 300"),
        (["move", FILE, "--by", "1,2"], 2, "EAST,NORTH,HEIGHT"),
        (["move", FILE, "--by", "1e9,0,0"], 3, "range of its 32-bit integers"),
        (["cut", FILE, "--above", "1,2"], 3, "no point is ground"),
        (["join", FILE], 2, "two files"),
    ):
        wrong = call("cloud", *words, "--out", WORK / "none.las")
        assert wrong.code == code and text in wrong.last and not (WORK / "none.las").exists(), (words, wrong.last)


def test_heights_of_a_cloud_are_compared_with_surveyed_ones():
    # The slope is 600 + 0.4 north: surveyed 2 cm above it, once on the roof, once far away.
    rows_of = [("A", 431205.0, 6822405.0, 602.02), ("B", 431250.3, 6822412.7, 605.10), ("ROOF", 431223.0, 6822412.0, 609.02), ("FAR", 440000.0, 6822412.0, 600.0)]
    survey = WORK / "surveyed.csv"
    survey.write_text("id,east,north,height\n" + "".join(f"{i},{e},{n},{h}\n" for i, e, n, h in rows_of))
    answer = good("cloud", "compare-points", FILE, survey, "--reach", 0.6, "--out", WORK / "heights.csv")
    table = {r["id"]: r for r in rows(WORK / "heights.csv")}
    # Noise of 1 cm, some 28 points in reach: 2 mm.
    for i in ("A", "B", "ROOF"):
        assert abs(float(table[i]["difference"]) + 0.02) < 0.008, table[i]
    assert table["FAR"]["cloud"] == "" and answer["compared"] == 3 and answer["without_cloud"] == 1
    assert abs(answer["mean"] + 0.02) < 0.006 and abs(answer["rmse"] - 0.02) < 0.006


def test_a_streamed_cloud_is_the_same_cloud_and_parts_of_it_are_read_alone():
    # Of a format that can be compressed: what densify writes is; here a file made so by hand.
    east, north = (a.ravel() for a in np.meshgrid(np.arange(0, 120, 0.3), np.arange(0, 90, 0.3)))
    xyz = np.column_stack([431200 + east, 6822400 + north, 600 + 0.1 * north + RNG.normal(0, 0.02, east.size)])
    path = WORK / "seven.las"
    raw = np.zeros((len(xyz), 36), np.uint8)
    raw[:, :12] = np.round((xyz - [431200, 6822400, 600]) / 0.001).astype("<i4").view(np.uint8).reshape(-1, 12)
    raw[:, 14], raw[:, 16], raw[:, 30:36] = 1 | 1 << 4, 2, RNG.integers(0, 256, (len(xyz), 6))
    head = bytearray(375)
    head[:4], head[24], head[25], head[104] = b"LASF", 1, 4, 7
    struct.pack_into("<HII", head, 94, 375, 375, 0)
    struct.pack_into("<H", head, 105, 36)
    low, high = (np.round((f(axis=0) - [431200, 6822400, 600]) / 0.001) * 0.001 + [431200, 6822400, 600] for f in (xyz.min, xyz.max))
    struct.pack_into("<12d", head, 131, *[0.001] * 3, 431200, 6822400, 600, *np.column_stack([high, low]).ravel())
    struct.pack_into("<QQ", head, 247, len(xyz), len(xyz))
    path.write_bytes(bytes(head) + raw.tobytes())
    answer = good("cloud", "stream", path)
    tree = WORK / "seven.copc.laz"
    assert answer["file"] == str(tree) and answer["points"] == len(xyz) and answer["nodes"] > 4
    good("cloud", "stream", path, "--threads", 1, "--out", WORK / "one.copc.laz")
    assert tree.read_bytes() == (WORK / "one.copc.laz").read_bytes()
    # By another reader: all points once, nodes under their parents, each point in its node's cube, one a cell of the root.
    octree = Octree(tree)
    assert sum(n[2] for n in octree.nodes.values()) == len(xyz) and len(octree.nodes) == answer["nodes"]
    assert octree.parents_are_there() and octree.chunks_follow() and octree.pages == 1 and octree.times == (0, 0)
    assert abs(octree.spacing - 2 * octree.half / 128) < 1e-9
    over_network(octree, tree)
    least = min((n[2], key) for key, n in octree.nodes.items())[1]
    known = set(map(bytes, raw))
    for key in ((0, 0, 0, 0), least):
        records = octree.records(key)
        low, side = octree.cube(key)
        at = np.array([struct.unpack_from("<3i", r) for r in records]) * 0.001 + [431200, 6822400, 600]
        assert ((at >= np.array(low) - 1e-6) & (at <= np.array(low) + side + 1e-6)).all(), key
        assert all(bytes(r) in known for r in records), "bytes as they were"
        cells = {tuple(c) for c in np.floor((at - low) / (side / 128)).astype(int)}
        assert key[0] > 0 or len(cells) == len(records), "the root is even"
    whole = np.sort(raw.view("V36").ravel())
    good("cloud", "cut", tree, "--box", "0,0,1e6,1e7", "--out", WORK / "back.las")
    back = WORK.joinpath("back.las").read_bytes()
    assert np.array_equal(np.sort(np.frombuffer(back, "V36", offset=struct.unpack_from("<I", back, 96)[0])), whole)
    box = ["--box", "431210.1,6822410.1,431215.1,6822415.1"]
    assert good("cloud", "cut", tree, *box, "--out", WORK / "p.las")["points"] == good("cloud", "cut", path, *box, "--out", WORK / "q.las")["points"]
    told = call("cloud", "render", tree, "--pixels", 200, "--out", WORK / "tree.png")
    assert told.code == 0 and "as fine as the picture" in told.err, (told.err, told.last)
    assert picture(WORK / "tree.png").shape[1] >= 200
    wrong = call("cloud", "stream", FILE)
    assert wrong.code == 3 and "format 2" in wrong.last and not (WORK / "site.copc.laz").exists()


def over_network(octree, tree):
    """A server of ranges, and a reader who asks for a part of the ground: he gets it with a part of the bytes."""
    sent = []

    class Ranges(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            begin, end = map(int, self.headers["Range"].removeprefix("bytes=").split("-"))
            body = tree.read_bytes()[begin : end + 1]
            sent.append(len(body))
            self.send_response(206)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *words):
            pass

    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Ranges) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        address = f"http://127.0.0.1:{server.server_address[1]}/"
        ask = lambda at, n: urllib.request.urlopen(urllib.request.Request(address, headers={"Range": f"bytes={at}-{at + n - 1}"})).read()
        far = Octree(tree, ask)
        head, key = sum(sent), max(k for k in far.nodes if k[0] == 1)
        assert far.nodes == octree.nodes and head == 589 + 32 * len(far.nodes)
        assert far.records(key) == octree.records(key) and sum(sent) == head + far.nodes[key][1]
        server.shutdown()


def picture(path):
    data = gdal.Open(str(path))
    return np.stack([data.GetRasterBand(b).ReadAsArray() for b in (1, 2, 3)], axis=-1).astype(int)


def test_a_section_has_picture_and_table():
    answer = good("cloud", "section", FILE, "--line", "431200:6822412.5,431260:6822412.5", "--width", 0.5, "--out", WORK / "s.png")
    table = rows(WORK / "s.csv")
    assert answer["points"] == len(table) > 300 and picture(WORK / "s.png").shape[1] == 1280
    # On the line, at the hut, the roof; elsewhere the slope at that north.
    for r in table:
        along, height = float(r["along"]), float(r["height"])
        assert abs(float(r["across"])) <= 0.25 and 0 <= along <= 60
        want = 609 if 20 < along < 27 else 605
        assert abs(height - want) < 0.2 or height > 650, r
    away = call("cloud", "section", FILE, "--line", "0:0,10:0", "--out", WORK / "away.png")
    assert away.code == 3 and "no point lies within" in away.last


def test_a_render_shows_colours_where_they_are():
    good("cloud", "render", FILE, "--pixels", 640, "--out", WORK / "r.png")
    image = picture(WORK / "r.png")
    # 60 m over 608 pixels from the left margin of 16, below a title of 30; north is up.
    at = lambda east, north: image[int(46 + (40 - north) * 608 / 59.8), int(16 + east * 608 / 59.8)]
    assert np.abs(at(23, 12) - [150, 60, 50]).max() < 12 and np.abs(at(8, 30) - [90, 120, 60]).max() < 12
    for words in (["--from", 200, "--by", "height"], ["--by", "class"]):
        good("cloud", "render", FILE, *words, "--out", WORK / "r2.png")
        assert (picture(WORK / "r2.png").std(axis=(0, 1)) > 10).all()
    no_sigma = call("cloud", "render", FILE, "--by", "sigma")
    assert no_sigma.code == 3 and "neither sigma_z nor sigma_match" in no_sigma.last


def test_sheets_and_flights_show_a_cloud_from_all_sides():
    answer = good("cloud", "render", FILE, "--from", "above,200,20:60", "--by", "density", "--pixels", 900, "--out", WORK / "sheet.png")
    assert answer["views"] == 3 and 850 < picture(WORK / "sheet.png").shape[1] <= 900
    answer = good("cloud", "render", FILE, "--flight", 4, "--pixels", 320, "--by", "shade", "--out", WORK / "fly.png")
    frames = sorted((WORK / "fly").iterdir())
    shapes = {picture(f).shape for f in frames}
    assert [f.name for f in frames] == ["0001.png", "0002.png", "0003.png", "0004.png"] and shapes == {(180, 320, 3)}
    assert len({f.read_bytes() for f in frames}) == 4 and answer["frames"] == 4
    # A film where ffmpeg is, which gets the pictures in order; without it the pictures and a word.
    tools = WORK / "tools"
    tools.mkdir()
    tool = tools / "ffmpeg"
    tool.write_text('#!/bin/sh\nfor last; do :; done\necho "$@" > "$last"\n')
    tool.chmod(0o755)
    film = WORK / "film.gif"
    for path, there in ((f"{tools}:/bin:/usr/bin", True), ("/nowhere", False)):
        film.unlink(missing_ok=True)
        done = subprocess.run([PROGRAM, "cloud", "render", FILE, "--flight", "3", "--pixels", "240", "--from", "above,200", "--out", film], capture_output=True, text=True, env={"PATH": path})
        assert done.returncode == 0 and film.exists() == there and ("install the package ffmpeg" in done.stderr) != there, done.stderr
        assert len(list((WORK / "film").iterdir())) == 3
    assert not list(WORK.glob("film.gif*"))
    # Lit from the north-west: of a mound the side that faces it is the brighter.
    east, north = (a.ravel() for a in np.meshgrid(np.arange(-20, 20, 0.1), np.arange(-20, 20, 0.1)))
    mound = np.column_stack([east, north, 8 * np.exp(-(east**2 + north**2) / 60)])
    write_las(WORK / "mound.las", mound, np.zeros((len(mound), 3)), 0)
    good("cloud", "render", WORK / "mound.las", "--by", "shade", "--pixels", 432, "--out", WORK / "mound.png")
    image = picture(WORK / "mound.png")[:, :, 0]
    at = lambda e, n: image[int(46 + 10 * (20 - n)) + np.arange(-3, 4)][:, int(16 + 10 * (e + 20)) + np.arange(-3, 4)].mean()
    assert at(-4, 4) > at(15, -15) + 20 and at(4, -4) < at(15, -15) - 20


def test_many_files_are_one_cloud():
    tiles = WORK / "tiles"
    tiles.mkdir()
    east = "431230,0,1e9,1e9"
    good("cloud", "cut", FILE, "--box", east, "--out", tiles / "a.las")
    good("cloud", "cut", FILE, "--box", east, "--outside", "--out", tiles / "b.laz")
    for name in (tiles, tiles / "?.la[sz]"):
        assert good("cloud", "describe", name)["points"] == len(XYZ)
    whole, parts = (good("cloud", "cut", f, "--box", "431225,6822405,431235,6822415", "--out", WORK / "c.las")["points"] for f in (FILE, tiles))
    assert whole == parts == good("cloud", "describe", WORK / "c.las")["points"]
    # Joined with itself and thinned: what one cube of 5 cm holds is one point.
    answer = good("cloud", "join", tiles, FILE, "--spacing", 0.05, "--out", WORK / "twice.las")
    assert answer["of"] == 2 * len(XYZ) and answer["points"] == len(XYZ)
    odd = tiles / "odd.las"
    write_las(odd, XYZ[:9], RGB[:9], 0)
    odd.write_bytes(odd.read_bytes()[:104] + b"\x00" + odd.read_bytes()[105:])
    told = call("cloud", "describe", tiles)
    assert told.code == 3 and "odd.las: its point format is 0, not 2" in told.last, told.last
    odd.unlink()
    (tiles / "index.csv").write_text("file,west,south,east,north,points\nb.laz,0,0,1,1,1\n")
    assert good("cloud", "describe", tiles)["points"] == len(XYZ) - good("cloud", "describe", tiles / "a.las")["points"]


def test_moves_turn_scale_and_reach_other_systems_and_boxes_turn():
    about = np.array([431230, 6822420, 600.0])
    good("cloud", "move", FILE, "--turn", 90, "--scale", 2, "--about", "431230,6822420,600", "--by", "1,2,3", "--out", WORK / "t.las")
    d = read_las(FILE)[0] - about
    # A quarter turn clockwise: north becomes east, east becomes south.
    want = about + 2 * np.column_stack([d[:, 1], -d[:, 0], d[:, 2]]) + [1, 2, 3]
    assert np.abs(read_las(WORK / "t.las")[0] - want).max() < 0.00051
    answer = good("cloud", "cut", FILE, "--box", "431220,6822410,431240,6822430", "--box-turn", 45, "--out", WORK / "d.las")
    inside = np.abs(d[:, 0]) + np.abs(d[:, 1]) <= 10 * 2**0.5  # a diamond
    assert abs(answer["points"] - inside.sum()) <= 2  # but for points on its rim
    # In a system of feet lengths of options are metres unless the file's unit is asked for.
    from osgeo import osr

    system = osr.SpatialReference()
    system.ImportFromEPSG(2272)  # a grid that counts US survey feet
    feet, text = WORK / "feet.las", system.ExportToWkt().encode() + b"\0"
    raw = np.zeros((len(XYZ), 30), np.uint8)
    place = np.column_stack([2700000 + d[:, 0] / 0.3048006096, 250000 + d[:, 1] / 0.3048006096, XYZ[:, 2] / 0.3048006096])
    raw[:, :12] = np.round((place - [2700000, 250000, 0]) / 0.001).astype("<i4").view(np.uint8).reshape(-1, 12)
    raw[:, 14] = 1 | 1 << 4
    head = bytearray(375)
    head[:4], head[24], head[25], head[104] = b"LASF", 1, 4, 6
    struct.pack_into("<H", head, 6, 16)
    struct.pack_into("<HII", head, 94, 375, 375 + 54 + len(text), 1)
    struct.pack_into("<H", head, 105, 30)
    struct.pack_into("<12d", head, 131, *[0.001] * 3, 2700000, 250000, 0, *np.column_stack([place.max(0), place.min(0)]).ravel())
    struct.pack_into("<Q", head, 247, len(place))
    record = bytearray(54)
    struct.pack_into("<16sHH", record, 2, b"LASF_Projection", 2112, len(text))
    feet.write_bytes(bytes(head) + bytes(record) + text + raw.tobytes())
    counts = [good("cloud", "thin", feet, "--spacing", s, "--units", u, "--out", WORK / "th.las")["points"] for s, u in ((0.6, "m"), (0.6 / 0.3048006096, "file"), (0.6, "file"))]
    assert abs(counts[0] / counts[1] - 1) < 0.01 and counts[2] > 3 * counts[1], counts  # a rounding moves the cubes' edges
    answer = good("cloud", "move", feet, "--crs", "EPSG:32618", "--out", WORK / "utm.las")
    target = osr.SpatialReference()
    target.ImportFromEPSG(32618)
    for s in (system, target):
        s.SetAxisMappingStrategy(osr.OAMS_TRADITIONAL_GIS_ORDER)
    way = osr.CoordinateTransformation(system, target)
    # GDAL takes the same datums for one, or an operation of a metre or two: the answer says which accuracy.
    want = np.array([way.TransformPoint(*p)[:2] for p in place[::2000]])
    data = (WORK / "utm.las").read_bytes()
    first, scale, offset = struct.unpack_from("<I", data, 96)[0], struct.unpack_from("<3d", data, 131), struct.unpack_from("<3d", data, 155)
    got = np.frombuffer(data, np.uint8, offset=first).reshape(-1, 30)[:, :12].copy().view("<i4") * scale + offset
    assert np.abs(got[::2000, :2] - want).max() < 2.5 and answer["heights_kept"] and answer["accuracy"] >= 0
    spread = np.abs((got[::2000, :2] - want) - (got[0, :2] - want[0])).max()
    assert spread < 0.005, spread  # whatever the datum, the shape is the same
    assert np.abs(got[:, 2] - place[:, 2]).max() < 0.002  # a CRS without heights leaves them as they are
    # Clouds of two systems are joined in one of them, and doubles thinned.
    told = call("cloud", "join", feet, WORK / "utm.las", "--out", WORK / "no.las")
    assert told.code == 3 and "coordinate system is another" in told.last and not (WORK / "no.las").exists()
    answer = good("cloud", "join", feet, WORK / "utm.las", "--crs", "EPSG:32618", "--spacing", 0.05, "--out", WORK / "both.las")
    assert answer["of"] == 2 * len(place) and len(place) <= answer["points"] < 1.02 * len(place), answer
    assert not list(WORK.glob("both.las_*"))  # what was made on the way is gone
    wrong = call("cloud", "move", feet, "--crs", "EPSG:32618", "--turn", 3)
    assert wrong.code == 2 and "leave out --turn" in wrong.last
    wrong = call("cloud", "move", feet, "--crs", "EPSG:32618+5773", "--out", WORK / "no.las")
    assert wrong.code == 3 and "says nothing of heights" in wrong.last


def times(n):
    """GPS times as bytes: standing, ticking evenly and unevenly, back and forth between sequences, far jumps."""
    t = 2.5e8 + np.cumsum(np.where(RNG.random(n) < 0.5, RNG.choice([1e-5, 2e-5, 7e-3, 3e-9], n), 0))
    for base in (1e3, 9e8, 5e5, 77.0):
        part = RNG.random(n) < 0.08
        t[part] = base + np.cumsum(RNG.choice([0, 1e-4, -2e-4], part.sum()))
    return t.astype("<f8").view(np.uint8).reshape(-1, 8)


def test_a_compressed_cloud_is_what_another_reader_finds_in_it():
    for layout, extra in ((6, 0), (7, 5), (8, 1)):
        n, fixed = 1500, {6: 30, 7: 36, 8: 38}[layout]
        raw = np.zeros((n, fixed + extra), np.uint8)
        xyz = np.cumsum(RNG.integers([-40, -900, -90000], [41, 901, 90001], (n, 3)), axis=0).astype("<i4")
        raw[:, :12], raw[:, 12:14] = xyz.view(np.uint8).reshape(-1, 12), RNG.integers(0, 65536, (n, 1), "<u2").view(np.uint8)
        raw[:, 14], raw[:, 15] = 1 | 1 << 4, RNG.choice([0, 3, 64, 192], n)
        raw[:, 16], raw[:, 17] = RNG.choice([2, 2, 2, 6, 200], n), RNG.choice([0, 0, 9, 255], n)
        raw[:, 30:] = RNG.integers(0, 256, (n, fixed + extra - 30)) * (RNG.random((n, fixed + extra - 30)) < 0.4)
        raw[:, 22:30] = times(n)
        if layout == 7:
            raw[::3, 32:34] = raw[::3, 34:36] = raw[::3, 30:32]  # grey
        head = bytearray(375)
        head[:4], head[24], head[25], head[104] = b"LASF", 1, 4, layout
        struct.pack_into("<HII", head, 94, 375, 375, 0)
        struct.pack_into("<H", head, 105, raw.shape[1])
        struct.pack_into("<12d", head, 131, *[0.001] * 3, 0, 0, 0, *(np.column_stack([xyz.max(0), xyz.min(0)]) * 0.001).ravel())
        struct.pack_into("<QQ", head, 247, n, n)
        plain, packed = WORK / "one.las", WORK / "one.laz"
        plain.write_bytes(bytes(head) + raw.tobytes())
        good("cloud", "cut", plain, "--box", "1e8,1e8,2e8,2e8", "--outside", "--out", packed)
        assert b"".join(read_laz(packed)) == raw.tobytes(), layout
        plain.unlink(), packed.unlink()
    # The older formats, point by point: any returns, flags, angles, sources.
    for layout, extra in ((0, 0), (1, 2), (2, 0), (3, 4)):
        n, fixed = 1500, {0: 20, 1: 28, 2: 26, 3: 34}[layout]
        raw = RNG.integers(0, 256, (n, fixed + extra)).astype(np.uint8)
        raw[:, :12] = np.cumsum(RNG.integers([-40, -900, -90000], [41, 901, 90001], (n, 3)), axis=0).astype("<i4").view(np.uint8).reshape(-1, 12)
        for column in range(12, fixed + extra):
            raw[:, column] = raw[np.maximum.accumulate(np.where(RNG.random(n) < 0.4, np.arange(n), 0)), column]
        if layout in (1, 3):
            raw[:, 20:28] = times(n)
        head = bytearray(227)
        head[:4], head[24], head[25], head[104] = b"LASF", 1, 2, layout
        struct.pack_into("<HII", head, 94, 227, 227, 0)
        struct.pack_into("<H2I", head, 105, raw.shape[1], n, 0)
        xyz = raw[:, :12].copy().view("<i4") * 0.001
        struct.pack_into("<12d", head, 131, *[0.001] * 3, 0, 0, 0, *np.column_stack([xyz.max(0), xyz.min(0)]).ravel())
        plain, packed, back = WORK / "old.las", WORK / "old.laz", WORK / "back.las"
        plain.write_bytes(bytes(head) + raw.tobytes())
        good("cloud", "cut", plain, "--box", "1e8,1e8,2e8,2e8", "--outside", "--out", packed)
        assert b"".join(read_laz(packed)) == raw.tobytes(), layout
        good("cloud", "cut", packed, "--box", "1e8,1e8,2e8,2e8", "--outside", "--out", back)
        assert back.read_bytes()[227:] == raw.tobytes(), layout
        plain.unlink(), packed.unlink(), back.unlink()


def test_what_cannot_be_is_told_and_leaves_nothing():
    before = sorted(WORK.iterdir())
    cut = WORK / "cut.las"
    cut.write_bytes(FILE.read_bytes()[:-1000])
    for words, code, said in (
        (["describe", cut], 3, "it is cut off"),
        (["ground", cut], 3, "it is cut off"),
        (["describe", WORK / "none.las"], 3, "cannot be opened"),
        (["describe"], 2, "needs one file"),
        (["descrbe", FILE], 2, "did you mean describe"),
        (["thin", FILE], 2, "needs --spacing"),
        (["move", FILE, "--crs", "EPSG:25833"], 3, "names no coordinate system"),
        (["move", FILE, "--turn", 5, "--scale", 0], 2, "--scale"),
        (["describe", WORK / "none*.las"], 3, "no .las or .laz file has such a name"),
        (["thin", str(WORK / "*.las"), "--spacing", 1], 2, "--out is needed"),
        (["cut", FILE, "--box-turn", 10, "--class", 1], 2, "goes with --box"),
        (["thin", FILE, "--spacing", 1, "--units", "inch"], 2, "write m or file"),
        (["clean", FILE, "--out", FILE], 2, "not overwritten"),
        (["section", FILE, "--line", "1:2"], 2, "--line"),
        (["section", FILE, "--line", "1:2,3:x"], 2, "is no place"),
        (["render", FILE, "--by", "mood"], 2, "colour, height, class, sigma"),
        (["render", FILE, "--from", "200:high"], 2, "give above, or an azimuth"),
        (["render", FILE, "--flight", 1], 2, "from 2 to 10000"),
    ):
        refused = call("cloud", *words)
        assert refused.code == code and said in refused.last, (words, refused.code, refused.last)
    cut.unlink()
    assert sorted(WORK.iterdir()) == before


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
