#!/usr/bin/python3
"""Mosaics by the built program, against the made-up site from straight above: usage as in harness.py."""
import hashlib
import sys

import numpy as np
from harness import SMALL, adjusted_survey, call, folder, good, items, new_survey, run_all
from osgeo import gdal, ogr, osr

gdal.UseExceptions()
WORK = folder()
SITE = adjusted_survey(WORK / "site")
good("densify", "-s", SITE)
MISSING = call("mosaic", "-s", SITE)
good("surface", "-s", SITE)
MADE = good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless")


def read(path):
    data = gdal.Open(str(path))
    return data.GetGeoTransform(), data.ReadAsArray(), data


def digest(name):
    return hashlib.sha256((SITE / "results" / name).read_bytes()).hexdigest()


def test_it_shows_the_site_from_above():
    place, rgba, data = read(SITE / "results" / "mosaic.tif")
    assert MADE["cell"] == 0.08 and abs(place[0] / 0.08 - round(place[0] / 0.08)) < 1e-6
    assert "upright" in data.GetMetadataItem("TIFFTAG_IMAGEDESCRIPTION")
    assert data.GetMetadataItem("AREA_OR_POINT") == "Area" and "ETRS89" in data.GetProjection()
    true_place, truth, _ = read(SMALL / "truth" / "ortho.tif")
    # Means over a metre, of photos whose pixels are 0.16 m: as bright, up to one factor, and in their place.
    step, ours, theirs = 12, [], []
    for row in range(0, rgba.shape[1] - step, step):
        for col in range(0, rgba.shape[2] - step, step):
            if (rgba[3, row : row + step, col : col + step] == 0).any():
                continue
            e, n = place[0] + col * 0.08, place[3] - row * 0.08
            c, r = int((e - true_place[0]) / true_place[1]), int((true_place[3] - n) / true_place[1])
            ours.append(rgba[:3, row : row + step, col : col + step].mean(axis=(1, 2)))
            wide = round(0.96 / true_place[1])
            theirs.append(truth[:, r : r + wide, c : c + wide].mean(axis=(1, 2)))
    ours, theirs = np.array(ours), np.array(theirs)
    assert len(ours) > 500
    for ch in range(3):
        assert np.corrcoef(ours[:, ch], theirs[:, ch])[0, 1] > 0.97
        ratio = ours[:, ch] / theirs[:, ch]
        assert np.median(np.abs(ratio / np.median(ratio) - 1)) < 0.03
    _, source, _ = read(SITE / "results" / "source.tif")
    assert source[0].max() <= 12 and set(np.unique(source[0][rgba[3] > 0])) - {0}
    assert (source[0] > 0).sum() == (rgba[3] > 0).sum() and 0.05 < np.median(source[2][source[0] > 0]) < 0.3


def test_threads_change_nothing_and_what_is_there_is_kept():
    before = [digest(n) for n in ("mosaic.tif", "source.tif", "seams.gpkg")]
    again = good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless")
    assert again["tiles"] > 1 and again["tiles_made"] == 0
    for item in items(SITE, "mosaic"):
        item.unlink()
    alone = good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless", "--threads", "1")
    assert alone["tiles_made"] == alone["tiles"]
    assert [digest(n) for n in ("mosaic.tif", "source.tif", "seams.gpkg")] == before


def test_an_edited_seam_changes_the_tiles_it_touches_and_is_remembered():
    place, was, _ = read(SITE / "results" / "source.tif")
    seams = ogr.Open(str(SITE / "results" / "seams.gpkg"))
    layer = seams.GetLayer()
    numbers = {f["number"]: f["id"] for f in layer}
    # A square in the first tile, to another photo that the mosaic has nearby.
    row, col = 500, 500
    near = was[0, 400:600, 400:600]
    other = next(int(v) for v in np.unique(near) if v > 0 and v != was[0, row, col])
    e, n = place[0] + col * 0.08, place[3] - row * 0.08
    out = ogr.GetDriverByName("GPKG").CreateDataSource(str(WORK / "edited.gpkg"))
    edited = out.CreateLayer("seams", layer.GetSpatialRef(), ogr.wkbPolygon)
    edited.CreateField(ogr.FieldDefn("id", ogr.OFTString))
    feature = ogr.Feature(edited.GetLayerDefn())
    feature["id"] = numbers[other]
    d = 2
    feature.SetGeometry(ogr.CreateGeometryFromWkt(f"POLYGON(({e-d} {n-d},{e+d} {n-d},{e+d} {n+d},{e-d} {n+d},{e-d} {n-d}))"))
    edited.CreateFeature(feature)
    out = edited = feature = None
    changed = good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless", "--seams", WORK / "edited.gpkg")
    assert changed["tiles_made"] == 1
    _, now, _ = read(SITE / "results" / "source.tif")
    assert (now[0, row - 15 : row + 15, col - 15 : col + 15] == other).mean() > 0.95
    assert (now[0, :, 1100:] == was[0, :, 1100:]).all() and (now[0, 1100:] == was[0, 1100:]).all()
    kept = good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless")
    assert kept["tiles_made"] == 0 and (SITE / "inputs" / "seams.geojson").exists()
    back = good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless", "--forget-seams")
    assert back["tiles_made"] == 1 and not (SITE / "inputs" / "seams.geojson").exists()


SYSTEM = osr.SpatialReference()
SYSTEM.ImportFromEPSG(25833)
SYSTEM.SetAxisMappingStrategy(osr.OAMS_TRADITIONAL_GIS_ORDER)


def polygons(path, named):
    """A GeoPackage of polygons, each of a name and corners in the survey's plan."""
    out = ogr.GetDriverByName("GPKG").CreateDataSource(str(path))
    layer = out.CreateLayer("drawn", SYSTEM, ogr.wkbPolygon)
    layer.CreateField(ogr.FieldDefn("id", ogr.OFTString))
    for name, corners in named:
        feature = ogr.Feature(layer.GetLayerDefn())
        feature["id"] = name
        ring = corners if isinstance(corners, str) else "POLYGON((" + ",".join(f"{x} {y}" for x, y in [*corners, corners[0]]) + "))"
        feature.SetGeometry(ogr.CreateGeometryFromWkt(ring))
        layer.CreateFeature(feature)
    return path


def square(place, row, col, half):
    e, n = place[0] + col * place[1], place[3] - row * place[1]
    return [(e - half, n - half), (e + half, n - half), (e + half, n + half), (e - half, n + half)]


def photos_within(name, place, corners):
    """Photos that source.tif names within a box."""
    own, source, _ = read(WORK / name / "source.tif")
    c0, c1 = (int((corners[i][0] - own[0]) / own[1]) for i in (0, 1))
    r0, r1 = (int((own[3] - corners[i][1]) / own[1]) for i in (2, 0))
    part = source[0, r0 + 8 : r1 - 8, c0 + 8 : c1 - 8]
    return set(np.unique(part[part > 0]).astype(int))


def test_a_single_photo_is_laid_down_as_the_mosaic_shows_it():
    place, rgba, _ = read(SITE / "results" / "mosaic.tif")
    _, source, _ = read(SITE / "results" / "source.tif")
    seams = ogr.Open(str(SITE / "results" / "seams.gpkg"))
    numbers = {f["number"]: f["id"] for f in seams.GetLayer()}
    most = max(numbers, key=lambda k: (source[0] == k).sum())
    made = good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless", "--photos", numbers[most], "--out", WORK / "single")
    single_place, single, _ = read(made["files"][0])
    # Where the mosaic has it, far from seams, it is the same picture.
    own = source[0] == most
    for _ in range(40):
        own[1:-1, 1:-1] &= own[:-2, 1:-1] & own[2:, 1:-1] & own[1:-1, :-2] & own[1:-1, 2:]
    rows, cols = np.nonzero(own)
    rows, cols = rows[::97], cols[::97]
    c = np.round((place[0] - single_place[0]) / 0.08).astype(int) + cols
    r = np.round((single_place[3] - place[3]) / 0.08).astype(int) + rows
    assert len(rows) > 100 and (single[3, r, c] == 255).all()
    # Both look places up between exact ones, good to 0.02 pixels: beside an edge of 100 grey levels a pixel that is two, and roundings.
    off = np.abs(single[:3, r, c].astype(int) - rgba[:3, rows, cols]).max(0)
    assert (off <= 1).mean() > 0.995 and off.max() <= 4, np.bincount(off)
    assert 0.02 < (single[3] == 0).mean() < 0.9


def test_regions_fills_depth_and_map_tiles_are_as_asked():
    place, was, _ = read(SITE / "results" / "mosaic.tif")
    box = square(place, was.shape[1] // 2, was.shape[2] // 2, 15.013)
    drawn = polygons(WORK / "within.gpkg", [("part", [box[0], box[1], box[2]])])  # a triangle
    made = good("mosaic", "-s", SITE, "--cell", "0.08", "--within", drawn, "--16-bit", "--fill", "--map-tiles", "mbtiles", "--out", WORK / "part" / "m.tif")
    own, rgba, _ = read(WORK / "part" / "m.tif")
    assert rgba.dtype == np.uint16 and rgba[:3].max() > 255
    col, row = np.meshgrid(np.arange(rgba.shape[2]), np.arange(rgba.shape[1]))
    e, n = own[0] + (col + 0.5) * own[1], own[3] - (row + 0.5) * own[1]
    within = np.minimum.reduce([e - box[0][0], box[1][0] - e, e - box[0][0] - (n - box[0][1]), n - box[0][1]])  # m, or so
    assert (rgba[3] > 0)[within < -0.01].sum() == 0 and (rgba[3] > 0)[within > 0.01].mean() > 0.99
    assert gdal.Open(str(WORK / "part" / "m.mbtiles")).RasterCount == 4
    assert made["files"][-1].endswith("m.mbtiles") and made["filled_share"] >= 0
    call("mosaic", "-s", SITE, "--cell", "0.08", "--disk", "0", "--out", WORK / "disk" / "m.tif")
    assert not items(SITE, "mosaic")


def test_seams_go_round_what_is_avoided_and_water_is_of_one_photo():
    place, was, _ = read(SITE / "results" / "source.tif")
    # A square across a seam, well inside.
    rows, cols = np.nonzero((was[0, 300:-300, 301:-300] != was[0, 300:-300, 300:-301]) & (was[0, 300:-300, 300:-301] > 0))
    box = square(place, rows[len(rows) // 2] + 300, cols[len(cols) // 2] + 300, 4)
    drawn = polygons(WORK / "drawn.gpkg", [("yard", box)])
    assert len(photos_within("site/results", place, box)) > 1
    for option in ("--avoid", "--water"):
        name = option.strip("-")
        good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless", option, drawn, "--out", WORK / name / "m.tif")
        assert len(photos_within(name, place, box)) == 1, option
        assert (SITE / "inputs" / f"{name}.geojson").exists()
        good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless", "--forget-seams", "--out", WORK / name / "m.tif")
        assert len(photos_within(name, place, box)) > 1 and not (SITE / "inputs" / f"{name}.geojson").exists()


def test_polygons_that_overlap_or_leave_holes_are_followed_and_told_of():
    good("mosaic", "-s", SITE, "--cell", "0.08", "--lossless")
    layer = ogr.Open(str(SITE / "results" / "seams.gpkg"))
    features = [(f["id"], f.GetGeometryRef().ExportToWkt(), f.GetGeometryRef().GetArea()) for f in layer.GetLayer()]
    place, was, _ = read(SITE / "results" / "source.tif")
    shape = ogr.CreateGeometryFromWkt
    beside = lambda f: any(g is not f and shape(g[1]).Boundary().Intersection(shape(f[1]).Boundary()).Length() > 0.5 for g in features)
    small = min((f for f in features if f[2] > 3 and beside(f)), key=lambda f: f[2])
    holed = polygons(WORK / "holed.gpkg", [(f[0], f[1]) for f in features if f is not small])
    told = call("mosaic", "-s", SITE, "--cell", "0.08", "--seams", holed, "--out", WORK / "holed" / "m.tif")
    assert told.code == 0 and "holes of" in told.err, told.err
    other = next(f[0] for f in features if f[0] != small[0])
    double = polygons(WORK / "double.gpkg", [(f[0], f[1]) for f in features] + [(other, small[1])])
    told = call("mosaic", "-s", SITE, "--cell", "0.08", "--seams", double, "--out", WORK / "double" / "m.tif")
    assert told.code == 0 and "overlap in" in told.err, told.err
    good("mosaic", "-s", SITE, "--cell", "0.08", "--forget-seams", "--lossless")


def test_run_makes_it_where_it_is_wanted():
    settings = SITE / "survey.toml"
    settings.write_text(settings.read_text() + '\n[products]\nwant = ["report", "mosaic", "copc"]\n[densify]\nformat = "laz"\n')
    made = good("run", "-s", SITE)
    # The cloud is compressed now, and not there twice; all others are made of it.
    results = SITE / "results"
    assert (results / "cloud.laz").exists() and not (results / "cloud.las").exists()
    tree = good("cloud", "describe", results / "cloud.copc.laz")
    assert tree["points"] == made["stream"]["points"] == good("cloud", "describe", results / "cloud.laz")["points"]
    assert "The cloud" in (results / "report.html").read_text() and (results / "figures" / "cloud.png").exists()
    assert made["mosaic"]["did"] == "made" and made["surface"]["did"] == "made"
    assert "Mosaic" in (SITE / "results" / "report.html").read_text()
    again = good("run", "-s", SITE)
    assert {again[k]["did"] for k in ("densify", "stream", "surface", "mosaic", "report")} == {"current"}
    (SITE / "results" / "mosaic.tif").unlink()
    assert any(s["name"] == "mosaic" and s["state"] != "current" for s in good("status", "-s", SITE)["stages"])


def test_wrong_input_is_refused_in_a_sentence():
    assert MISSING.code == 3 and "mesograph surface" in MISSING.last
    refused = call("mosaic", "-s", SITE, "--surface", SMALL / "control.csv")
    assert refused.code == 3 and "no raster" in refused.last, refused.last
    refused = call("mosaic", "-s", SITE, "--seams", WORK / "none.gpkg")
    assert refused.code == 3 and "none.gpkg" in refused.last, refused.last
    for option, value in (("--photos", "none.jpg"), ("--colours-of", "none.jpg"), ("--within", "1,2,3,4"), ("--fill-from", WORK / "none.tif")):
        refused = call("mosaic", "-s", SITE, "--fill", option, value)
        assert refused.code == 3 and str(value) in refused.last, refused.last
    assert call("mosaic", "-s", SITE, "--quality", "5").code == 2
    assert call("mosaic", "-s", SITE, "--map-tiles", "paper").code == 2
    assert call("mosaic", "-s", SITE, "--colours-of", "a", "--colours-as-taken").code == 2


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
