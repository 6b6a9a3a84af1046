#!/usr/bin/python3
"""Control as a crew sends it: files of every usual dress, other systems, layers of points, checks held out."""
import math
import shutil
import sys
from pathlib import Path

from harness import call, folder, good, rows, run_all

WORK = folder()
DEMO = Path(__file__).resolve().parents[2] / "demo" / "osterlund"


def test_the_messy_file_of_the_demo():
    place = WORK / "messy"
    good("new", place, "--crs", "EPSG:25833+5773")
    good("admit", DEMO / "photos" / "cross", "--sortie", "cross", "-s", place)
    raw = DEMO / "control_raw.txt"
    refused = call("control", raw, "-s", place)
    assert refused.code == 3 and "--columns id,north,east,height,- --units ft" in refused.last, refused.last
    metres = call("control", raw, "--columns", "id,north,east,height,code", "-s", place)
    assert metres.code == 3 and "taken as ft they would fit" in metres.last, metres.last
    wrong = call("control", raw, "--columns", "id,east,north,height,code", "--units", "ft", "-s", place)
    assert wrong.code == 3 and "with northing and easting swapped they would fit" in wrong.last, wrong.last
    assert not (place / "inputs" / "control.csv").exists()
    given = ("control", raw, "--columns", "id,north,east,height,code", "--units", "ft", "--check", "P*", "-s", place)
    assert good(*given, "--dry-run")["check"] == 63 and not (place / "inputs" / "control.csv").exists()
    good(*given)
    want = {row["id"]: row for row in rows(DEMO / "control.csv")}
    for row in rows(place / "inputs" / "control.csv"):
        for axis in ("east", "north", "height"):
            assert abs(float(row[axis]) - float(want[row["id"]][axis])) < 1e-4, row
        assert row["role"] == want[row["id"]]["role"]


def test_control_from_another_system():
    """The same points as UTM zone 32, and as latitude and longitude in the datum of the survey, by another library."""
    from osgeo import osr

    osr.UseExceptions()
    place = WORK / "messy"
    utm33, utm32, etrs = osr.SpatialReference(), osr.SpatialReference(), osr.SpatialReference()
    for system, code in ((utm33, 25833), (utm32, 25832), (etrs, 4258)):
        system.ImportFromEPSG(code)
        system.SetAxisMappingStrategy(osr.OAMS_TRADITIONAL_GIS_ORDER)
    want = {row["id"]: row for row in rows(DEMO / "control.csv")}
    for system, header, crs in ((utm32, "id,east,north,height", "EPSG:25832+5773"), (etrs, "id,lon,lat,height", "EPSG:4258")):
        way = osr.CoordinateTransformation(utm33, system)
        with open(WORK / "other.csv", "w", encoding="utf-8") as out:
            out.write(header + "\n")
            for row in want.values():
                x, y, _ = way.TransformPoint(float(row["east"]), float(row["north"]))
                out.write(f"{row['id']},{x:.10f},{y:.10f},{row['height']}\n")
        if crs == "EPSG:25832+5773":
            told = call("control", WORK / "other.csv", "-s", place)
            assert told.code == 3 and "--crs EPSG:25832" in told.last, told.last
        listed = good("control", WORK / "other.csv", "--crs", crs, "--dry-run", "-s", place)["list"]
        for point in listed:
            # Two ways through the same formulas, and 1e-10 degrees of rounding: 0.02 mm.
            assert abs(point["east"] - float(want[point["id"]]["east"])) < 1e-4
            assert abs(point["north"] - float(want[point["id"]]["north"])) < 1e-4
            # Without a vertical part heights are above the ellipsoid: EGM96 is 33 to 36 m over it here.
            off = point["height"] - float(want[point["id"]]["height"])
            assert abs(off) < 1e-4 if "+" in crs else -45 < off < -25, off


def test_control_as_a_layer_of_points():
    """The same points as GeoJSON in latitude and longitude, as GeoPackage in the survey's grid."""
    from osgeo import ogr, osr

    ogr.UseExceptions()
    want = {row["id"]: row for row in rows(DEMO / "control.csv")}
    for name, driver, code in (("points.gpkg", "GPKG", 25833), ("points.geojson", "GeoJSON", 4326)):
        system, grid = osr.SpatialReference(), osr.SpatialReference()
        system.ImportFromEPSG(code), grid.ImportFromEPSG(25833)
        for s in (system, grid):
            s.SetAxisMappingStrategy(osr.OAMS_TRADITIONAL_GIS_ORDER)
        way = osr.CoordinateTransformation(grid, system)
        data = ogr.GetDriverByName(driver).CreateDataSource(str(WORK / name))
        options = ["COORDINATE_PRECISION=11"] if driver == "GeoJSON" else []
        layer = data.CreateLayer("points", system, ogr.wkbPoint25D, options)
        layer.CreateField(ogr.FieldDefn("name", ogr.OFTString))
        layer.CreateField(ogr.FieldDefn("role", ogr.OFTString))
        for row in want.values():
            feature = ogr.Feature(layer.GetLayerDefn())
            feature["name"], feature["role"] = row["id"], row["role"]
            x, y, _ = way.TransformPoint(float(row["east"]), float(row["north"]))
            point = ogr.Geometry(ogr.wkbPoint25D)
            point.AddPoint(x, y, float(row["height"]))
            feature.SetGeometry(point)
            layer.CreateFeature(feature)
        layer = data = None
        told = good("control", WORK / name, "--dry-run", "-s", WORK / "messy")
        for point in told["list"]:
            row = want[point["id"]]
            # Between WGS 84 and ETRS89 the register's operation moves nothing, and is good to a metre, which is said.
            assert math.hypot(point["east"] - float(row["east"]), point["north"] - float(row["north"])) < 1e-3, (name, point)
        if code == 4326:
            assert any("good to" in w["text"] for w in told["warnings"]), told["warnings"]


def test_checks_are_held_out_well_spread_and_changes_are_kept():
    held = good("control", "--hold-out", "3", "-s", WORK / "messy")
    assert held["control"] == 5 and held["check"] == 66
    noted = (WORK / "messy" / "inputs" / "decisions.csv").read_text()
    assert noted.count("role check") == 3
    assert call("control", "--hold-out", "9", "-s", WORK / "messy").code == 3
    good("control", "--sigma", "K*=0.02:0.04", "-s", WORK / "messy")
    table = {row["id"]: row for row in rows(WORK / "messy" / "inputs" / "control.csv")}
    assert float(table["K03"]["sigma_h"]) == 0.02 and float(table["K03"]["sigma_v"]) == 0.04
    assert good("control", "--remove", "P6*", "-s", WORK / "messy")["points"] == 67


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
