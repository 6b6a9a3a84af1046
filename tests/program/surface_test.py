#!/usr/bin/python3
"""Height rasters, contours, volumes and changes, by the built program: usage as in harness.py. Clouds are made and rasters
read here."""
import json
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


def write_las(path, xyz, classes, system=WKT):
    """LAS 1.4, format 6, with WKT, by the standard's offsets."""
    wkt = system.encode() + b"\0"
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


def test_classes_left_out_are_bridged_and_spot_heights_stand_on_a_grid():
    good("surface", WORK / "one.las", "--cell", "0.2", "--leave-out", "1", "--contours", "0.5", "--spots", "5", "--out", WORK / "bare" / "bare.tif")
    place, z, _ = band(WORK / "bare" / "bare.tif")
    mask = band(WORK / "bare" / "bare_mask.tif")[1]
    row, col = int((place[3] - 6822415.1) / 0.2), int((431230.1 - place[0]) / 0.2)
    assert mask[row, col] == 2 and abs(z[row, col] - 603.02) < 0.1, (mask[row, col], z[row, col])
    spots = [(p, f) for p, f in features(WORK / "bare" / "contours.gpkg", "spot_heights") if f["kind"] == "grid"]
    assert len(spots) > 30
    for point, fields in spots:
        e, n = point.GetX() - 431200, point.GetY() - 6822400
        assert abs(e / 5 - round(e / 5)) < 1e-6 and abs(n / 5 - round(n / 5)) < 1e-6
        if np.hypot(e - 12, n - 15) > 5:
            assert abs(fields["height"] - 600 - 0.2 * n) < 0.1, (e, n, fields)


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
    # Clouds as they are: over cells of their spacing, and along the normals of the earlier one.
    clouds = good("compare", WORK / "one.las", WORK / "two.las", "--out", WORK / "clouds")
    assert len(clouds["changes"]) == 1
    assert abs(clouds["changes"][0]["fill"] - clouds["changes"][0]["cut"] - FRUSTUM / 4) < 0.1 * FRUSTUM / 4
    along = good("compare", "--normals", WORK / "one.las", WORK / "two.las", "--scale", "0.8", "--out", WORK / "along")
    assert len(along["changes"]) == 1 and abs(along["changes"][0]["largest"] - 0.5) < 0.05, along["changes"]
    assert (WORK / "along" / "distances.las").stat().st_size > 375 + 50 * along["places"]


def test_a_surface_of_another_grid_is_brought_over():
    # The same slope, of a grid whose north is turned by some degrees there: heights by hand through the transformation.
    there = osr.SpatialReference()
    there.SetFromUserInput("EPSG:25832")
    here = osr.SpatialReference()
    here.SetFromUserInput("EPSG:25833")
    back, towards = osr.CoordinateTransformation(there, here), osr.CoordinateTransformation(here, there)
    west, north = (round(v) for v in towards.TransformPoint(431195, 6822435)[:2])
    cells, side = 250, 0.2
    places = [(west + side * (c + 0.5), north - side * (r + 0.5)) for r in range(cells) for c in range(cells)]
    z = np.array([600 + 0.2 * (p[1] - 6822400) for p in back.TransformPoints(places)], np.float32).reshape(cells, cells)
    made = gdal.GetDriverByName("GTiff").Create(str(WORK / "other.tif"), cells, cells, 1, gdal.GDT_Float32)
    made.SetGeoTransform((west, side, 0, north, 0, -side))
    system = osr.SpatialReference()
    system.SetFromUserInput("EPSG:25832+5773")
    made.SetProjection(system.ExportToWkt())
    made.GetRasterBand(1).WriteArray(z)
    made = None
    good("surface", WORK / "one.las", "--cell", "0.2")
    same = good("compare", WORK / "surface_top.tif", WORK / "other.tif", "--fit", "none", "--out", WORK / "brought")
    assert any("brought into" in w["text"] for w in same["warnings"]), same["warnings"]
    assert abs(same["stable_mean"]) < 0.002, same["stable_mean"]
    assert len(same["changes"]) == 2, same["changes"]  # the heap and the hut, which the slope has not


def test_a_cloud_in_feet_gives_the_same_surface_in_feet():
    foot = 1200 / 3937
    system = WKT.replace('UNIT["metre",1,AUTHORITY["EPSG","9001"]]', f'UNIT["US survey foot",{foot!r},AUTHORITY["EPSG","9003"]]')
    assert system.count("US survey foot") == 2
    # What the grid counts from is in its unit, and no register has it so.
    system = system.replace('"false_easting",500000', f'"false_easting",{500000 / foot!r}').replace(',AUTHORITY["EPSG","25833"]', "")
    xyz, classes = site(1, 2.0)
    write_las(WORK / "feet.las", xyz / foot, classes, system)
    made = good("surface", WORK / "feet.las", "--cell", "0.2", "--contours", "0.5", "--out", WORK / "feet" / "feet.tif")
    place, z, data = band(WORK / "feet" / "feet.tif")
    assert made["cell"] == 0.2 and abs(place[1] * foot - 0.2) < 1e-9 and data.GetRasterBand(1).GetUnitType() == "us-ft"
    row, col = int((place[3] - 6822405 / foot) / place[1]), int((431205 / foot - place[0]) / place[1])
    assert abs(z[row, col] * foot - 601) < 0.05, z[row, col] * foot
    for line, fields in features(WORK / "feet" / "contours.gpkg", "contours"):
        assert abs(fields["height"] * foot * 2 - round(fields["height"] * foot * 2)) < 1e-6  # halves of a metre
        assert abs(line.GetZ(0) - fields["height"]) < 1e-6
    # A heap's volume is in m3 in every system, and outlines given in another CRS are brought into it.
    heap = {"type": "Polygon", "coordinates": [[[431212 + 5 * np.cos(t), 6822415 + 5 * np.sin(t)] for t in np.linspace(0, 2 * np.pi, 49)]]}
    outline = {
        "type": "FeatureCollection",
        "crs": {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::25833"}},
        "features": [{"type": "Feature", "properties": {"id": "heap"}, "geometry": heap}],
    }
    (WORK / "heap.geojson").write_text(json.dumps(outline))
    good("surface", WORK / "one.las", "--cell", "0.2")
    for raster in (WORK / "surface_top.tif", WORK / "feet" / "feet.tif"):
        piles = good("volume", WORK / "heap.geojson", "--surface", raster, "--base", "rim-plane", "-s", WORK)["piles"]
        assert len(piles) == 1 and abs(piles[0]["net"] - FRUSTUM) < max(0.01 * FRUSTUM, 3 * piles[0]["sigma"]), (raster, piles)
    refused = call("compare", WORK / "surface_top.tif", WORK / "feet" / "feet.tif")
    assert refused.code == 3 and "registered CRS" in refused.last


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
        (("compare", WORK / "surface_top.tif", WORK / "far.geojson"), "no raster"),
        (("compare", "--normals", WORK / "one.las", WORK / "surface_top.tif"), "LAS"),
        (("surface", WORK / "one.las", "--breaklines", WORK / "none.gpkg"), "none.gpkg"),
    ]:
        done = call(*words)
        assert done.code == 3 and text in done.last, (words, done.last)
    assert call("volume", "--surface", WORK / "surface_top.tif").code == 2
    assert call("surface", WORK / "one.las", "--kind", "roof").code == 2


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
