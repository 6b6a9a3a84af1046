#!/usr/bin/python3
"""The same survey in other systems: feet, axes that count west and south, a site's own grid; scale bars."""
import math
import shutil
import struct
import sys

from harness import SMALL, call, folder, good, rows, run_all

WORK = folder()
FOOT = 1200 / 3937
GRID = (
    'PROJCS["{name}",GEOGCS["ETRS89",DATUM["European_Terrestrial_Reference_System_1989",SPHEROID["GRS 1980",6378137,298.257222101]],'
    'PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["{method}"],PARAMETER["latitude_of_origin",0],'
    'PARAMETER["central_meridian",15],PARAMETER["scale_factor",0.9996],PARAMETER["false_easting",{east}],PARAMETER["false_northing",0],'
    'UNIT["{unit}",{metres}],AXIS["{first}",{first_way}],AXIS["{second}",{second_way}]]'
)
# Name of the survey: .prj file or code, header of the plan, its metres a unit and where it counts from, heights' metres.
FEET = GRID.format(name="site in feet", method="Transverse_Mercator", east=500000 / FOOT, unit="US survey foot", metres=FOOT, first="Easting", first_way="EAST", second="Northing", second_way="NORTH")
SOUTH = GRID.format(name="site south", method="Transverse_Mercator_South_Orientated", east=0, unit="metre", metres=1, first="Y", first_way="WEST", second="X", second_way="SOUTH")


def survey_in(name, crs, *control):
    place = WORK / name
    good("new", place, "--crs", crs, "--heights", "plain")
    for sortie in ("grid", "cross"):
        good("admit", SMALL / "photos" / sortie, "--sortie", sortie, "-s", place)
    good("control", *control, "-s", place)
    good("sight", "--import", SMALL / "sightings.csv", "--predict-only", "-s", place)
    good("tie", "-s", place)
    good("orient", "-s", place)
    return place, good("adjust", "-s", place)


def test_feet_and_west_and_south_change_nothing_but_the_numbers_in_files():
    (WORK / "feet.prj").write_text(FEET)
    (WORK / "south.prj").write_text(SOUTH)
    with open(WORK / "south.csv", "w", encoding="utf-8") as out:
        out.write("id,west,south,height,role,sigma_h,sigma_v\n")
        for row in rows(SMALL / "control.csv"):
            out.write(f"{row['id']},{500000 - float(row['east']):.5f},{-float(row['north']):.5f},{row['height']},{row['role']},{row['sigma_h']},{row['sigma_v']}\n")
    metres, usual = survey_in("metres", "EPSG:25833", SMALL / "control.csv")
    # The crew's file is in metres, and says so; without a word its numbers would be feet, and lie elsewhere.
    feet, in_feet = survey_in("feet", WORK / "feet.prj", SMALL / "control.csv", "--units", "m")
    south, in_south = survey_in("south", WORK / "south.prj", WORK / "south.csv")
    for other in (in_feet, in_south):
        for key in ("rmse_east", "rmse_north", "rmse_height", "mean_height"):
            # Roundings of the origin's coordinates (1e-5) decide of a few rays whether they are gross: 0.02 GSD of 0.17 m.
            assert abs(other["check"][key] - usual["check"][key]) < 4e-3, (key, other["check"], usual["check"])
        assert abs(other["gsd"] - usual["gsd"]) < 1e-3 * usual["gsd"]
    table = {row["image"]: row for row in rows(metres / "results" / "stations.csv")}
    assert "west,south,height" in (south / "results" / "stations.csv").read_text().splitlines()[0]
    assert (south / "inputs" / "control.csv").read_text().startswith("id,west,south,height")
    for place, read in (
        (feet, lambda r: [float(r[a]) * FOOT for a in ("east", "north", "height")]),
        (south, lambda r: [500000 - float(r["west"]), -float(r["south"]), float(r["height"])]),
    ):
        for row in rows(place / "results" / "stations.csv"):
            same = table[row["image"]]
            # A few rays more or fewer move a station by a part of its sigma, which is metres in every system.
            sigma, angle = float(same["sigma_v"]), float(same["sigma_angle"])
            assert abs(float(row["sigma_v"]) - sigma) < 0.15 * sigma, (row, same)
            for value, axis in zip(read(row), ("east", "north", "height")):
                assert abs(value - float(same[axis])) < 0.3 * sigma, (row, same)
            for name in ("omega", "phi", "kappa"):
                turn = (float(row[name]) - float(same[name]) + 180) % 360 - 180
                assert abs(turn) < 0.5 * angle, (row, same)
    refused = call("control", SMALL / "control.csv", "-s", feet)
    assert refused.code == 3 and "--units m" in refused.last, refused.last
    good("densify", "--spacing", "1", "-s", feet)
    head = (feet / "results" / "cloud.las").read_bytes()
    assert b"US survey foot" in head[:4000]
    middle = sum(float(r["east"]) for r in table.values()) / len(table) / FOOT
    highest, lowest = struct.unpack_from("<2d", head, 179)
    assert lowest < middle < highest and highest - lowest < 1500, (lowest, middle, highest)
    assert "US survey foot" in call("new", WORK / "say", "--crs", WORK / "feet.prj", "--heights", "plain").out
    good("report", "-s", feet)
    assert "in US survey foot" in (feet / "results" / "report.html").read_text()


def test_a_site_grid_is_brought_onto_common_points_and_its_residuals_are_shown():
    place, turn, factor = WORK / "metres", 0.4, 1 / 0.99962
    known = {row["id"]: row for row in rows(SMALL / "control.csv")}
    first = list(known.values())[0]
    with open(WORK / "site.csv", "w", encoding="utf-8") as out:
        out.write("id,east,north,height\n")
        for row in known.values():
            e, n = float(row["east"]) - float(first["east"]), float(row["north"]) - float(first["north"])
            x = 1000 + factor * (math.cos(turn) * e - math.sin(turn) * n)
            y = 5000 + factor * (math.sin(turn) * e + math.cos(turn) * n)
            out.write(f"{row['id']},{x:.5f},{y:.5f},{float(row['height']) - 123.4:.5f}\n")
    common = list(known)[:4]
    with open(WORK / "common.csv", "w", encoding="utf-8") as out:
        out.write("id,east,north,height\n")
        for id in common:
            out.write(f"{id},{known[id]['east']},{known[id]['north']},{known[id]['height']}\n")
    fitted = good("control", WORK / "site.csv", "--onto", WORK / "common.csv", "--dry-run", "-s", place)
    fit = fitted["site_fit"]
    assert abs(fit["factor"] - 0.99962) < 1e-6 and abs(fit["turn_deg"] + math.degrees(turn)) < 1e-4, fit
    assert [r["id"] for r in fit["residuals"]] == common and fit["rms_plan"] < 1e-4
    for row in fitted["list"]:
        if row["id"] in known:
            off = [abs(row[a] - float(known[row["id"]][a])) for a in ("east", "north", "height")]
            assert max(off) < 2e-4, (row, known[row["id"]])
    # In space the map's scale of 0.9996 is not the site's, and heights keep theirs: factor * 0.9996 away from 1.
    space = good("control", WORK / "site.csv", "--onto", WORK / "common.csv", "--fit", "7", "--dry-run", "-s", place)["site_fit"]
    assert abs(space["factor"] * factor / 1.0 - 1 / 0.9996) < 1e-4, space
    (WORK / "two.csv").write_text("\n".join((WORK / "common.csv").read_text().splitlines()[:3]) + "\n")
    told = good("control", WORK / "site.csv", "--onto", WORK / "two.csv", "--dry-run", "-s", place)
    assert any("no point is left to check it" in w["text"] for w in told["warnings"])
    few = call("control", WORK / "site.csv", "--onto", WORK / "two.csv", "--fit", "7", "--dry-run", "-s", place)
    assert few.code == 3 and "three common points" in few.last, few.last
    # The other way to a grid: lengths on the ground times a factor about a point that stays.
    with open(WORK / "ground.csv", "w", encoding="utf-8") as out:
        out.write("id,east,north,height\n")
        for row in known.values():
            e, n = (float(first[a]) + factor * (float(row[a]) - float(first[a])) for a in ("east", "north"))
            out.write(f"{row['id']},{e:.5f},{n:.5f},{row['height']}\n")
    about = f"{first['east']},{first['north']}"
    listed = good("control", WORK / "ground.csv", "--ground-to-grid", "0.99962", "--about", about, "--dry-run", "-s", place)["list"]
    assert all(abs(r["east"] - float(known[r["id"]]["east"])) < 1e-4 for r in listed)


def test_slope_ground_and_grid_distance():
    known = {row["id"]: row for row in rows(SMALL / "control.csv")}
    a, b = ([float(known[p][axis]) for axis in ("east", "north", "height")] for p in ("K01", "K02"))
    told = good("measure", *(":".join(map(str, p)) for p in (a, b)), "-s", WORK / "metres")
    flat, rise = math.hypot(b[0] - a[0], b[1] - a[1]), b[2] - a[2]
    # Scale of the grid half way (0.9996, and the square of the distance from the central meridian), and of the height.
    east, radius = 0.5 * (a[0] + b[0]) - 500000, 6.381e6
    grid_scale = 0.9996 * (1 + east**2 / (2 * radius**2))
    ground = flat / grid_scale * (1 + 0.5 * (a[2] + b[2]) / radius)
    assert abs(told["grid"] - flat) < 1e-6 and told["surveyed_slope"] is None
    # A radius that fits to 0.1 % at 650 m of height, and the same in the grid's scale: 2e-7 of the distance.
    assert abs(told["ground"] - ground) < 1e-6 * flat, (told, ground)
    assert abs(told["rise"] - rise) < 1e-3 and abs(told["slope"] - math.hypot(ground, rise)) < 1e-3
    assert abs(told["direction_deg"] - math.degrees(math.atan2(b[0] - a[0], b[1] - a[1])) % 360) < 1e-6
    by_name = [good("measure", "K01", "K02", "-s", WORK / name) for name in ("metres", "feet", "south")]
    for told in by_name:
        assert abs(told["slope"] - told["surveyed_slope"]) < 0.1 and abs(told["slope"] - by_name[0]["slope"]) < 0.01, by_name
    assert by_name[0]["grid"] < by_name[0]["ground"] < by_name[0]["slope"]
    missing = call("measure", "K01", "Q9", "-s", WORK / "metres")
    assert missing.code == 3 and "no place in the adjusted block" in missing.last


def test_a_scale_bar_takes_part_and_is_reported():
    place = WORK / "metres"
    known = {row["id"]: row for row in rows(SMALL / "control.csv")}
    a, b = "K01", "K02"
    # UTM's own scale and the earth's height shrink the map: the distance in space is longer by about 0.03 %.
    flat = math.hypot(*(float(known[a][axis]) - float(known[b][axis]) for axis in ("east", "north")))
    rise = float(known[a]["height"]) - float(known[b]["height"])
    space = math.hypot(flat / 0.99966 * (1 + 640 / 6.38e6), rise)
    (WORK / "bars.csv").write_text(f"id,a,b,length,sigma\nB1,{a},{b},{space:.4f},0.01\n")
    listed = good("control", "--scalebars", WORK / "bars.csv", "-s", place)
    assert listed["scale_bars"][0]["id"] == "B1"
    adjusted = good("adjust", "-s", place)
    bar = adjusted["scale_bars"][0]
    assert abs(bar["adjusted"] - space) < 0.05 and 0 < bar["redundancy"] < 1, bar
    assert any(g["name"] == "scale bars" and g["n"] == 1 for g in adjusted["groups"])
    good("report", "-s", place)
    assert "Scale bars" in (place / "results" / "report.html").read_text()
    # A false one is named, in metres.
    (WORK / "bars.csv").write_text(f"id,a,b,length,sigma\nB1,{a},{b},{space + 2:.4f},0.01\n")
    good("control", "--scalebars", WORK / "bars.csv", "-s", place)
    worst = max(good("adjust", "-s", place)["suspects"], key=lambda s: abs(s["w"]))
    assert worst["kind"] == "scale bar" and worst["id"] == "B1" and 1 < worst["size"] < 3, worst
    assert good("control", "--remove", "B1", "-s", place)["scale_bars"] == []
    assert good("adjust", "-s", place)["scale_bars"] == []
    (WORK / "bars.csv").write_text(f"id,a,b,length,sigma\nB1,{a},{a},5,0.01\n")
    refused = call("control", "--scalebars", WORK / "bars.csv", "-s", place)
    assert refused.code == 3 and "one point at both ends" in refused.last


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
