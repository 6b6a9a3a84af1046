#!/usr/bin/python3
"""Mosaics by the built program, against the made-up site from straight above: usage as in harness.py."""
import hashlib
import sys

import numpy as np
from harness import SMALL, call, folder, good, items, new_survey, run_all
from osgeo import gdal, ogr

gdal.UseExceptions()
WORK = folder()
SITE = new_survey(WORK / "site")
good("tie", "-s", SITE)
good("orient", "-s", SITE)
good("control", SMALL / "control.csv", "-s", SITE)
good("sight", "--import", SMALL / "sightings.csv", "-s", SITE)
good("adjust", "-s", SITE)
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


def test_wrong_input_is_refused_in_a_sentence():
    assert MISSING.code == 3 and "mesograph surface" in MISSING.last
    refused = call("mosaic", "-s", SITE, "--surface", SMALL / "control.csv")
    assert refused.code == 3 and "no raster" in refused.last, refused.last
    refused = call("mosaic", "-s", SITE, "--seams", WORK / "none.gpkg")
    assert refused.code == 3 and "none.gpkg" in refused.last, refused.last
    assert call("mosaic", "-s", SITE, "--quality", "5").code == 2


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
