#!/usr/bin/python3
"""Points and photos under any names: everything that people said survives, and the numbers are those of plain names."""
import csv
import random
import shutil
import sys

from harness import SMALL, call, folder, good, rows, run_all

WORK = folder()
AWKWARD = ["#7", " leading", "trailing ", "a,b", 'say "K"', "two\nlines", "semi;colon", "#", "Høyde-42", "河", "tab\there", "x" * 200]


def table(path):
    """A CSV by Python's own reader; comment lines are those that begin with '#' unquoted, at the top of our files."""
    with open(path, encoding="utf-8", newline="") as file:
        lines = file.read()
    while lines.startswith("#"):
        lines = lines.split("\n", 1)[1]
    return list(csv.DictReader(lines.splitlines(keepends=True)))


def write(path, all_rows):
    with open(path, "w", encoding="utf-8", newline="") as file:
        writer = csv.DictWriter(file, all_rows[0].keys(), lineterminator="\n", quoting=csv.QUOTE_ALL)
        writer.writeheader()
        writer.writerows(all_rows)


def renamed():
    """The small survey under awkward names: of each old photo and point its new one."""
    random.seed(3)
    photos = sorted(p.name for p in (SMALL / "photos").glob("*/*.jpg"))
    # The order of photos stays, for it decides who is asked first.
    names = [f"{i:02d}{AWKWARD[i % len(AWKWARD)]}.jpg" for i in range(len(photos))]
    names[0], names[1] = "#1.jpg", "#2,\n.jpg"
    image = dict(zip(photos, names))
    image["G0003.jpg"] = "02" + "n" * 244 + ".jpg"  # 250 bytes
    points = [r["id"] for r in rows(SMALL / "control.csv")]
    point = {p: f"{AWKWARD[i % len(AWKWARD)]}{'' if i < len(AWKWARD) else i}" for i, p in enumerate(points)}
    return image, point


def survey(where, photos, control, sightings):
    good("new", where, "--crs", "EPSG:25833+5773", "--name", "names")
    for sortie in ("grid", "cross"):
        good("admit", photos / sortie, "--sortie", sortie, "-s", where)
    good("control", control, "-s", where)
    good("sight", "--import", sightings, "-s", where)
    for stage in ("tie", "orient", "sight"):
        good(stage, "-s", where)
    return good("adjust", "-s", where)


def test_awkward_names_give_the_numbers_of_plain_ones():
    image, point = renamed()
    assert len(set(image.values())) == len(image) and len(set(point.values())) == len(point)
    for sortie in ("grid", "cross"):
        (WORK / "photos" / sortie).mkdir(parents=True)
        for path in (SMALL / "photos" / sortie).iterdir():
            shutil.copy(path, WORK / "photos" / sortie / image[path.name])
    write(WORK / "control.csv", [{**r, "id": point[r["id"]]} for r in rows(SMALL / "control.csv")])
    write(WORK / "sightings.csv", [{**r, "image": image[r["image"]], "point": point[r["point"]]} for r in rows(SMALL / "sightings.csv")])
    plain = survey(WORK / "plain", SMALL / "photos", SMALL / "control.csv", SMALL / "sightings.csv")
    odd = survey(WORK / "odd", WORK / "photos", WORK / "control.csv", WORK / "sightings.csv")
    assert odd["check"]["count"] == plain["check"]["count"] and odd["control"]["count"] == plain["control"]["count"]
    # Random choices are seeded by names: the blocks differ by the noise of a choice, a hundredth of a GSD of 0.15 m.
    for key in ("rmse_east", "rmse_north", "rmse_height"):
        assert abs(odd["check"][key] - plain["check"][key]) < 0.02, (key, odd["check"], plain["check"])
    # Everything that people said is there, in inputs/ and results/, by another reader.
    for name, column, names in (
        ("inputs/control.csv", "id", set(point.values())),
        ("inputs/sightings.csv", "image", {image[r["image"]] for r in rows(SMALL / "sightings.csv")}),
        ("inputs/sightings.csv", "point", {point[r["point"]] for r in rows(SMALL / "sightings.csv")}),
        ("results/control.csv", "id", set(point.values())),
        ("results/sightings.csv", "point", set(point.values())),
        ("results/photos.csv", "image", set(image.values())),
        ("results/stations.csv", "image", {r["image"] for r in table(WORK / "odd/results/stations.csv")}),
    ):
        found = {r[column] for r in table(WORK / "odd" / name)}
        assert found == names, (name, column, found ^ names)
    oriented = {r["image"] for r in rows(WORK / "plain/results/stations.csv")}
    assert {r["image"] for r in table(WORK / "odd/results/stations.csv")} == {image[i] for i in oriented}


def test_what_was_said_once_more_changes_nothing():
    """Reading and writing the survey's own files again and again loses no name."""
    where = WORK / "odd"
    before = (where / "inputs" / "sightings.csv").read_bytes(), (where / "inputs" / "control.csv").read_bytes()
    good("sight", "--import", where / "inputs" / "sightings.csv", "-s", where)
    good("control", where / "inputs" / "control.csv", "-s", where)
    assert ((where / "inputs" / "sightings.csv").read_bytes(), (where / "inputs" / "control.csv").read_bytes()) == before
    good("export", "ties", "-s", where)
    good("tie", "--import", where / "results" / "ties.csv", "--pairs", "none", "-s", where)
    again = {r["image"] for r in table(where / "inputs" / "ties.csv")}
    assert len(again) >= 11 and "#1.jpg" in again
    assert call("measure", "#7", " leading", "-s", where).code == 0


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
