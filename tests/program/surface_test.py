#!/usr/bin/python3
"""Height rasters, contours, volumes and changes, by the built program: usage as in harness.py. Clouds are made and rasters
read here."""
import struct
import sys

import numpy as np
from harness import call, folder, good, run_all
from osgeo import gdal, ogr, osr

gdal.UseExceptions()
osr.UseExceptions()
WORK = folder()
SYSTEM = osr.SpatialReference()
SYSTEM.SetFromUserInput("EPSG:25833+5773")
WKT = SYSTEM.ExportToWkt()


def write_las(path, xyz, classes):
    """LAS 1.4, format 6, with WKT, by the standard's offsets."""
    wkt = WKT.encode() + b"\0"
    vlr = struct.pack("<H16sHH32s", 0, b"LASF_Projection", 2112, len(wkt), b"") + wkt
    scale, offset, first = 0.001, np.floor(xyz.min(axis=0)), 375 + len(vlr)
    raw = np.zeros((len(xyz), 30), np.uint8)
    raw[:, :12] = np.round((xyz - offset) / scale).astype("<i4").view(np.uint8).reshape(-1, 12)
    raw[:, 14], raw[:, 16] = 0x11, classes
    head = bytearray(375)
    head[:4], head[24], head[25], head[104] = b"LASF", 1, 4, 6
    struct.pack_into("<H", head, 6, 16)
    struct.pack_into("<HII", head, 94, 375, first, 1)
    struct.pack_into("<H", head, 105, 30)
    low, high = xyz.min(axis=0), xyz.max(axis=0)
    struct.pack_into("<12d", head, 131, *[scale] * 3, *offset, *np.column_stack([high, low]).ravel())
    struct.pack_into("<QQ", head, 247, len(xyz), len(xyz))
    path.write_bytes(bytes(head) + vlr + raw.tobytes())


def site(seed, heap):
    """A slope of one in five, a heap on it, a hut of other class."""
    rng = np.random.default_rng(seed)
    e, n = (a.ravel() for a in np.meshgrid(np.arange(0, 40, 0.1), np.arange(0, 30, 0.1)))
    e, n = e + rng.uniform(-0.03, 0.03, e.size), n + rng.uniform(-0.03, 0.03, n.size)
    z = 600 + 0.2 * n + heap * np.clip((4 - np.hypot(e - 12, n - 15)) / 3, 0, 1) + rng.normal(0, 0.01, e.size)
    hut = (np.abs(e - 30) < 3) & (np.abs(n - 15) < 2)
    z[hut] = 606 + rng.normal(0, 0.01, hut.sum())
    return np.column_stack([431200 + e, 6822400 + n, z]), np.where(hut, 1, 2)


write_las(WORK / "one.las", *site(1, 2.0))
write_las(WORK / "two.las", *site(2, 2.5))
FRUSTUM = np.pi * 2 / 3 * (16 + 4 + 1)  # from 4 m to 1 m of radius over 2 m


def features(path, layer=0):
    data = ogr.Open(str(path))
    return [(f.GetGeometryRef().Clone(), f.items()) for f in data.GetLayer(layer)]


def band(path, number=1):
    data = gdal.Open(str(path))
    return data.GetGeoTransform(), data.GetRasterBand(number).ReadAsArray(), data


def test_rasters_lie_where_they_say_on_round_corners():
    out = good("surface", WORK / "one.las", "--cell", "0.2")
    place, z, data = band(WORK / "surface_top.tif")
    assert out["cell"] == 0.2 and place[1] == 0.2 and place[5] == -0.2
    assert abs(place[0] / 0.2 - round(place[0] / 0.2)) < 1e-6 and abs(place[3] / 0.2 - round(place[3] / 0.2)) < 1e-6
    assert data.GetRasterBand(1).GetNoDataValue() == -9999 and data.GetRasterBand(1).GetUnitType() == "m"
    assert data.GetRasterBand(1).GetOverviewCount() > 0 or z.size < 512 * 512
    assert "COMPD_CS" in data.GetProjection() and "5773" in data.GetProjection()
    assert data.GetMetadata("IMAGE_STRUCTURE")["LAYOUT"] == "COG"
    row, col = int((place[3] - 6822405) / 0.2), int((431205 - place[0]) / 0.2)
    assert abs(z[row, col] - 601) < 0.05
    hut = z[int((place[3] - 6822415) / 0.2), int((431230 - place[0]) / 0.2)]
    assert abs(hut - 606) < 0.05
    before = (WORK / "surface_top.tif").read_bytes(), (WORK / "surface_top_sigma.tif").read_bytes()
    good("surface", WORK / "one.las", "--cell", "0.2", "--threads", "1")
    assert before == ((WORK / "surface_top.tif").read_bytes(), (WORK / "surface_top_sigma.tif").read_bytes()), "threads"


def test_ground_goes_under_the_hut_and_contours_follow_it():
    good("surface", WORK / "one.las", "--kind", "ground", "--cell", "0.2", "--contours", "0.5", "--least-length", "3")
    place, z, _ = band(WORK / "surface_ground.tif")
    _, mask, _ = band(WORK / "surface_ground_mask.tif")
    at = int((place[3] - 6822415) / 0.2), int((431230 - place[0]) / 0.2)
    assert mask[at] == 2 and abs(z[at] - 603) < 0.1, z[at]
    lines = features(WORK / "contours.gpkg", "contours")
    assert len(lines) > 8
    for line, fields in lines:
        height = fields["height"]
        assert line.Length() >= 3 and abs(line.GetZ(0) - height) < 1e-6
        for i in range(line.GetPointCount()):
            e, n = line.GetX(i) - 431200, line.GetY(i) - 6822400
            true = 600 + 0.2 * n + 2 * np.clip((4 - np.hypot(e - 12, n - 15)) / 3, 0, 1)
            assert abs(true - height) < 0.125, (e, n, height)  # a quarter of the interval
    assert len(features(WORK / "contours.dxf")) > 8


def test_a_heap_found_has_its_volume_and_what_was_added_to_it_is_a_change():
    good("surface", WORK / "one.las", "--cell", "0.2")
    good("surface", WORK / "two.las", "--cell", "0.2", "--out", WORK / "second.tif")
    found = good("volume", "--find", "--surface", WORK / "surface_top.tif", "--largest", "12", "-s", WORK)
    heap = [p for p in found["piles"] if p["base"] == "rim-plane" and abs(p["net"] - FRUSTUM) < 0.03 * FRUSTUM]
    assert len(heap) == 1, found["piles"]
    assert len(features(WORK / "volumes.gpkg")) == len(found["piles"]) / 3
    assert "frustum" not in (WORK / "volumes.html").read_text() and (WORK / "volumes.csv").read_text().startswith("id,base,unit")
    made = good("compare", WORK / "surface_top.tif", WORK / "second.tif")
    assert len(made["changes"]) == 1
    change = made["changes"][0]
    assert abs(change["fill"] - change["cut"] - FRUSTUM / 4) < 3 * change["sigma"] < 0.5 * FRUSTUM
    same = call("compare", WORK / "surface_top.tif", WORK / "surface_top.tif", "--out", WORK / "same")
    assert same.code == 0 and "no change beyond error" in same.out


def test_wrong_input_is_refused_in_a_sentence():
    (WORK / "far.geojson").write_text(
        '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{},"geometry":{"type":"Polygon",'
        '"coordinates":[[[0,0],[1,0],[1,1],[0,0]]]}}]}'
    )
    write_las(WORK / "bare.las", site(1, 0)[0], 1)
    for words, text in [
        (("surface", WORK / "bare.las", "--kind", "ground"), "cloud ground"),
        (("surface", WORK / "one.las", "--within", "0,0,1,1"), "region"),
        (("surface", WORK / "one.las", "--cell", "0.00001"), "larger"),
        (("surface", WORK / "none.las"), "none.las"),
        (("volume", WORK / "far.geojson", "--surface", WORK / "surface_top.tif", "-s", WORK), "outline"),
        (("volume", "--find", "--surface", WORK / "surface_top.tif", "--base", "height", "-s", WORK), "--height"),
        (("volume", "--find", "--surface", WORK / "no.tif", "-s", WORK), "mesograph surface"),
        (("compare", WORK / "surface_top.tif", WORK / "one.las"), "no raster"),
    ]:
        done = call(*words)
        assert done.code == 3 and text in done.last, (words, done.last)
    assert call("volume", "--surface", WORK / "surface_top.tif").code == 2
    assert call("surface", WORK / "one.las", "--kind", "roof").code == 2


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
