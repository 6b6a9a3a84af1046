#!/usr/bin/python3
"""Targets that are found from geotags alone, and what people say of them."""
import json
import math
import re
import shutil
import subprocess
import sys
from pathlib import Path

from harness import call, folder, good, rows, run_all

WORK = folder()
ROOT = Path(__file__).resolve().parents[2]
MADE, SURVEY = WORK / "made", WORK / "survey"


def admitted(where):
    good("new", where, "--crs", "EPSG:25833+5773")
    for sortie in ("grid", "cross"):
        good("admit", MADE / "photos" / sortie, "--sortie", sortie, "-s", where)
    return where


def test_targets_are_found_from_geotags_and_control_alone():
    # 960 pixels wide: targets of 10 pixels, and positions that are off by 40.
    assert call("simulate", MADE, "--photos", "14", "--size", "960x720", "--quiet").code == 0
    admitted(SURVEY)
    good("tie", "-s", SURVEY)
    good("orient", "-s", SURVEY)
    good("control", MADE / "control.csv", "-s", SURVEY)
    sighted = good("sight", "-s", SURVEY)
    judged = subprocess.run([ROOT / "scripts" / "check-sightings", SURVEY, MADE], capture_output=True, text=True)
    print(judged.stdout)
    assert "farther than 1 px from the truth: 0" in judged.stdout, judged.stdout
    visible = len(rows(MADE / "sightings.csv"))
    # A block of fourteen photos shows some points in one or two photos only: those cannot be checked by others.
    assert sighted["found"] > 0.95 * visible and sighted["confirmed"] == 0, (sighted["found"], visible)
    rms = float(judged.stdout.split("RMS ")[1].split()[0])
    assert rms < 0.15, judged.stdout
    assert all("finder: checker" in row["origin"] for row in rows(SURVEY / "results" / "sightings.csv") if row["state"] == "found")
    best = [p for p in sighted["predictions"] if p["point"] == "K01"]
    assert best and [p["worth"] for p in best] == sorted((p["worth"] for p in best), reverse=True)
    assert all(p["axis_a"] >= p["axis_b"] > 0 for p in sighted["predictions"])
    assert (SURVEY / "results" / "sheets" / "K01.png").read_bytes()[:4] == b"\x89PNG"


def test_found_sightings_take_part_and_are_counted_as_unconfirmed():
    adjusted = good("adjust", "-s", SURVEY)
    used = adjusted["sightings"]
    assert used["used"] == used["unconfirmed"] > 100 and adjusted["control"]["count"] == 8
    gsd = adjusted["gsd"]
    for axis in ("east", "north", "height"):
        assert adjusted["check"][f"rmse_{axis}"] < gsd, adjusted["check"]
    assert "sightings unconfirmed" in call("adjust", "-s", SURVEY).out
    confirmed = good("sight", "--confirm", "K*", "-s", SURVEY)
    assert confirmed["confirmed"] > 20
    again = good("adjust", "-s", SURVEY)["sightings"]
    assert again["unconfirmed"] == again["used"] - confirmed["confirmed"]
    settings = (SURVEY / "survey.toml").read_text()
    (SURVEY / "survey.toml").write_text(settings + '\n[adjust]\nsightings = "confirmed"\n')
    without = good("adjust", "-s", SURVEY)
    assert without["sightings"] == {"used": confirmed["confirmed"], "unconfirmed": 0} and without["check"] is None
    (SURVEY / "survey.toml").write_text(settings)
    rejected = good("sight", "--reject", "P01", "-s", SURVEY)
    assert rejected["rejected"] > 0 and good("sight", "-s", SURVEY)["rejected"] == rejected["rejected"]


def test_the_same_sightings_whatever_the_threads():
    table = SURVEY / "results" / "sightings.csv"
    before = table.read_bytes()
    for threads in (1, 3):
        table.unlink()
        good("sight", "--threads", threads, "-s", SURVEY)
        assert table.read_bytes() == before, threads


def test_a_site_whose_targets_are_gone_gives_no_control_point():
    """The same photos, control that lies 30 m away: what is there (targets of other points, road, boulders) is not it."""
    place = WORK / "elsewhere"
    shutil.copytree(SURVEY, place)
    shutil.rmtree(place / "inputs" / "sightings.csv", ignore_errors=True)
    (place / "inputs" / "sightings.csv").unlink()
    with open(place / "inputs" / "control.csv", "w", encoding="utf-8") as out:
        out.write("id,east,north,height,role\n")
        for i, row in enumerate(r for r in rows(MADE / "control.csv") if r["role"] == "control"):
            turn = 2.4 * i
            out.write(f"{row['id']},{float(row['east']) + 6 * math.cos(turn):.3f},{float(row['north']) + 6 * math.sin(turn):.3f},{row['height']},control\n")
        out.write(f"Z99,{float(row['east']) + 240:.3f},{row['north']},{row['height']},control\n")
    told = good("sight", "-s", place)
    assert told["found"] == 0, told["found"]
    assert any("Z99: no photo should show it" in w["text"] for w in told["warnings"]), told["warnings"]
    assert any("no pattern" in w["text"] for w in told["warnings"]), told["warnings"]


def without_sightings(where):
    shutil.copytree(SURVEY, where)
    (where / "inputs" / "sightings.csv").unlink()


def test_predictions_leave_what_was_found():
    where = WORK / "found"
    shutil.copytree(SURVEY, where)
    found = good("sight", "-s", where)["found"]  # as it stands
    before = (where / "store" / "found.csv").read_bytes()
    good("control", "--sigma", "K01=0.011", "-s", where)  # what was predicted is out of date
    assert good("sight", "--predict-only", "-s", where)["found"] == found > 50
    assert (where / "store" / "found.csv").read_bytes() == before
    table = (where / "results" / "sightings.csv").stat().st_mtime_ns
    listed = call("sight", "--list", "K01", "-s", where)
    assert listed.code == 0 and "K01" in listed.out and "looking" not in listed.err
    assert (where / "store" / "found.csv").read_bytes() == before
    assert (where / "results" / "sightings.csv").stat().st_mtime_ns == table


def test_control_that_nobody_sees_proves_nothing_and_says_so():
    where = WORK / "off"
    without_sightings(where)
    text = []
    for line in (MADE / "control.csv").read_text().splitlines():
        fields = line.split(",")
        if fields[0] == "K04":
            fields[1] = f"{float(fields[1]) + 10:.5f}"  # the target stands 10 m west of it
        text.append(",".join(fields))
    (WORK / "off.csv").write_text("\n".join(text) + "\n")
    good("control", WORK / "off.csv", "-s", where)
    said = " ".join(w["text"] for w in good("sight", "-s", where)["warnings"])
    assert re.search(r"K04 was not found where it is surveyed; a target stands (9\.[89]|10\.[012]).* m west of it", said), said
    adjusted = good("adjust", "-s", where)
    k04 = {r["id"]: r for r in rows(where / "results" / "control.csv")}["K04"]
    assert k04["rays"] == "0" and k04["d_east"] == k04["d_north"] == k04["d_height"] == k04["rms_px"] == "", k04
    assert {"id": "K04", "role": "control", "rays": 0} in adjusted["idle"]
    good("report", "-s", where)
    page = (where / "results" / "report.html").read_text()
    verdict = page[page.index('class="verdict"') : page.index('class="keys"')]
    assert "control points take no part" in verdict and "K04" in verdict, verdict
    assert re.search(r"<td>K04</td><td>-</td><td>-</td><td>-</td><td>0</td><td>takes no part</td>", page)


def test_the_other_foot_is_named_by_the_pattern():
    """Numbers in US survey feet read as feet: 13.6 m off at this northing, too near to be refused by the photos."""
    where = WORK / "foot"
    without_sightings(where)
    foot = 1200 / 3937
    text = ["id,east,north,height,role"]
    for r in rows(MADE / "control.csv"):
        text.append(",".join([r["id"], *(f"{float(r[a]) / foot:.5f}" for a in ("east", "north", "height")), r["role"]]))
    (WORK / "foot.csv").write_text("\n".join(text) + "\n")
    good("control", WORK / "foot.csv", "--units", "ft", "-s", where)
    # Positions known to a metre: so far off nothing is taken, but it is looked for there.
    settings = (where / "survey.toml").read_text()
    sure = "".join(f"[sortie.{s}]\nsigma_sortie = [0.5, 0.5]\nsigma_photo = [1.0, 1.0]\n" for s in ("grid", "cross"))
    (where / "survey.toml").write_text(settings + "\n" + sure)
    good("orient", "-s", where)
    said = " ".join(w["text"] for w in good("sight", "-s", where)["warnings"])
    assert "--units us-ft" in said and re.search(r"13\.[67] m", said), said
    told = " ".join(w["text"] for w in good("adjust", "-s", where)["warnings"])
    (where / "survey.toml").write_text(settings)
    good("orient", "-s", where)
    # Positions of some metres let the pattern shift: it is found, and what the shift is like is told.
    shifted = " ".join(w["text"] for w in good("sight", "-s", where)["warnings"])
    assert "the other foot" in shifted and "us-ft" in shifted, shifted
    assert "NONE of the 8 control points takes part" in told, told


def test_one_click_on_the_ground_is_carried_into_the_other_photos():
    """The true image of each point in one photo, as a tie point without coordinates; the truth says where the others are."""
    sys.path.insert(0, str(ROOT / "scripts"))
    from truth import photo_point, table

    place = WORK / "natural"
    shutil.copytree(SURVEY, place)
    for name in ("control.csv", "sightings.csv"):
        (place / "inputs" / name).unlink(missing_ok=True)
    stations = {row["image"]: row for row in table(MADE / "truth" / "stations.csv")}
    cameras = json.loads((MADE / "truth" / "cameras.json").read_text())
    true = {r["point"]: [float(r[a]) for a in ("east", "north", "height")] for r in table(MADE / "truth" / "points.csv")}
    seen = {}
    for row in rows(MADE / "sightings.csv"):
        if row["image"].startswith("G"):
            seen.setdefault(row["point"], []).append(row["image"])
    text, most = "image,point,x,y\n", 0
    for point, images in seen.items():
        if len(images) < 4:
            continue
        x, y = photo_point(stations[images[0]], cameras[stations[images[0]]["camera"]], true[point])
        text += f"{images[0]},{point},{x:.4f},{y:.4f}\n"
        most += len(images) - 1
    (WORK / "one.csv").write_text(text)
    told = good("sight", "--import", WORK / "one.csv", "--natural", "-s", place)
    squares, found = 0.0, [r for r in rows(place / "results" / "sightings.csv") if r["state"] == "found"]
    for row in found:
        station = stations[row["image"]]
        x, y = photo_point(station, cameras[station["camera"]], true[row["point"]])
        off = math.hypot(float(row["x"]) - x, float(row["y"]) - y)
        assert off < 1 and row["origin"].startswith("matched from G"), row
        squares += off * off
    assert told["found"] == len(found) > 0.7 * most, (len(found), most)
    assert math.sqrt(squares / len(found) / 2) < 0.15


def test_what_a_change_of_control_did_is_noted():
    good("adjust", "-s", SURVEY)
    good("control", "--role", "off=K01", "-s", SURVEY)
    assert "check RMSE before" in (SURVEY / "inputs" / "decisions.csv").read_text()


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
