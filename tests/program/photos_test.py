#!/usr/bin/python3
"""What practice brings as photos, and what is said of it, by the built program: usage as in harness.py."""
import shutil
import struct
import sys
from pathlib import Path

import numpy as np
from harness import SMALL, call, folder, good, new_survey, rows, run_all
from osgeo import gdal

gdal.UseExceptions()
WORK = folder()
GRID = sorted((SMALL / "photos" / "grid").iterdir())


def texts(answer):
    return " | ".join(f"{w['subject']}: {w['text']}" for w in answer["warnings"])


def pixels(path):
    return gdal.Open(str(path)).ReadAsArray()


def write_tiff(path, bands, kind, *options):
    """bands: channels x rows x columns."""
    made = gdal.GetDriverByName("GTiff").Create(
        str(path), bands.shape[2], bands.shape[1], bands.shape[0], kind, options=list(options)
    )
    for i, band in enumerate(bands):
        made.GetRasterBand(i + 1).WriteArray(band)


# Exif 2.32 by hand: little-endian TIFF structure, values longer than four bytes behind their directory.
SHORT, LONG, RATIONAL, ASCII = 3, 4, 5, 2


def ifd(entries, start):
    """A directory that begins `start` bytes into the TIFF structure. entries: (tag, type, values)."""
    fixed = 2 + 12 * len(entries) + 4
    head, tail = struct.pack("<H", len(entries)), b""
    for tag, kind, values in sorted(entries):
        if kind == ASCII:
            data, count = values.encode() + b"\0", len(values) + 1
        elif kind == RATIONAL:
            data, count = b"".join(struct.pack("<II", *v) for v in values), len(values)
        else:
            data, count = b"".join(struct.pack("<H" if kind == SHORT else "<I", v) for v in values), len(values)
        if len(data) > 4:
            value, tail = struct.pack("<I", start + fixed + len(tail)), tail + data + b"\0" * (len(data) % 2)
        else:
            value = data.ljust(4, b"\0")
        head += struct.pack("<HHI", tag, kind, count) + value
    return head + b"\0\0\0\0" + tail


def with_exif(source, target, first=(), exif=(), gps=()):
    """A JPEG with these metadata and no others."""
    second = 8 + len(ifd([*first, (0x8769, LONG, [0]), (0x8825, LONG, [0])], 8))
    block = ifd(list(exif), second)
    third = second + len(block)
    top = ifd([*first, (0x8769, LONG, [second]), (0x8825, LONG, [third])], 8)
    body = b"Exif\0\0II*\0\x08\0\0\0" + top + block + ifd(list(gps), third)
    data, at = source.read_bytes(), 2
    while data[at + 1] in range(0xE0, 0xF0):
        at += struct.unpack_from(">H", data, at + 2)[0] + 2
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_bytes(b"\xff\xd8\xff\xe1" + struct.pack(">H", len(body) + 2) + body + data[at:])


def degrees(value):
    return [(int(value), 1), (int(value % 1 * 60), 1), (round(value * 60 % 1 * 60 * 10000), 10000)]


def gps(latitude, longitude, height):
    return [
        (1, ASCII, "N"), (2, RATIONAL, degrees(latitude)), (3, ASCII, "E"), (4, RATIONAL, degrees(longitude)),
        (5, SHORT, [0]), (6, RATIONAL, [(round(height * 1000), 1000)]),
    ]  # fmt: skip


CAMERA = [(0x10F, ASCII, "Made-up"), (0x110, ASCII, "Kestrel")]


def test_every_format_shows_the_same_ground():
    """PNG, tiled 16-bit TIFF, RGBA and grey: tied to the JPEG next to them as the JPEGs they were made from are."""
    place = WORK / "formats"
    place.mkdir()
    shutil.copy(GRID[0], place / "a.jpg")
    second, third, fourth = (pixels(GRID[i]) for i in (1, 2, 3))
    gdal.GetDriverByName("PNG").CreateCopy(str(place / "b.png"), gdal.Open(str(GRID[1])))
    write_tiff(
        place / "c.tif", third.astype(np.uint16) * 257, gdal.GDT_UInt16, "TILED=YES", "BLOCKXSIZE=64", "BLOCKYSIZE=64",
        "COMPRESS=DEFLATE", "PREDICTOR=2",
    )  # fmt: skip
    write_tiff(place / "d.tif", np.concatenate([fourth, fourth[:1] * 0 + 255]), gdal.GDT_Byte, "ALPHA=YES")
    write_tiff(place / "e.tif", second.mean(axis=0, keepdims=True).round().astype(np.uint8), gdal.GDT_Byte)
    survey = WORK / "formats-survey"
    good("new", survey, "--crs", "local")
    answer = good("admit", place, "--sortie", "mixed", "--keep", "*", "-s", survey)
    assert answer["photos"] == 5 and answer["screened_out"] == [], answer
    tied = good("tie", "--pairs", "all", "-s", survey)
    assert tied["pairs_verified"] == 10, tied
    # The PNG and the grey TIFF are one photo twice: nearly all keypoints of one are found in the other.
    good("export", "matches", "--pair", "b.png,e.tif", "-s", survey)
    good("export", "keypoints", "-s", survey)
    twins = len(rows(survey / "results" / "matches.csv"))
    of_b = sum(r["image"] == "b.png" for r in rows(survey / "results" / "keypoints.csv"))
    assert twins > 0.8 * of_b, (twins, of_b)


def test_metadata_that_cannot_be_are_ignored_and_named():
    place = WORK / "absurd"
    shutil.copy(GRID[3], WORK / "fine.jpg")
    nought = [(0, 0)]
    with_exif(GRID[0], place / "latitude.jpg", CAMERA, [(0x920A, RATIONAL, [(0, 1)])], gps(200, 13, 400))
    with_exif(GRID[1], place / "height.jpg", CAMERA, [(0x920A, RATIONAL, nought)], gps(61.5, 13.7, 4e6))  # 4e9 / 1000: beyond a signed numerator
    with_exif(GRID[2], place / "turned.jpg", [*CAMERA, (0x112, SHORT, [6])], [], gps(61.5, 13.7, 700))
    (place / "empty.jpg").write_bytes(b"")
    (place / "cut.jpg").write_bytes(GRID[4].read_bytes()[:9000])
    (place / "notes.jpg").write_text("no photo at all\n")
    survey = WORK / "absurd-survey"
    good("new", survey, "--crs", "EPSG:25833+5773")
    answer = good("admit", place, "--sortie", "odd", "-s", survey)
    out = {s["image"]: s["reason"] for s in answer["screened_out"]}
    assert all("not" in out[n] or "read" in out[n] or "damaged" in out[n] for n in ("empty.jpg", "cut.jpg", "notes.jpg")), out
    said = texts(answer)
    assert "latitude.jpg" in said and "200" in said, said
    assert "height.jpg: height 4e+06 cannot be" in said, said
    assert "turned.jpg" in said and "orientation" in said, said
    for name in ("latitude.jpg", "height.jpg", "turned.jpg"):
        assert name not in out or out[name] != out["empty.jpg"], out


def test_one_camera_for_each_body_lens_and_size():
    place = WORK / "cameras"
    serial = 0xA431
    for name, image, number, focal in (("a", 0, "A1", 88), ("b", 1, "A1", 88), ("c", 2, "B7", 88), ("d", 3, "A1", 120)):
        with_exif(
            GRID[image], place / f"{name}.jpg", CAMERA,
            [(0x920A, RATIONAL, [(focal, 10)]), (serial, ASCII, number), (0xA405, SHORT, [focal * 3 // 10])],
            gps(61.5 + 1e-4 * image, 13.7, 700),
        )  # fmt: skip
    survey = WORK / "cameras-survey"
    good("new", survey, "--crs", "EPSG:25833+5773")
    good("admit", place, "--sortie", "first", "--keep", "*", "-s", survey)
    good("export", "photos", "-s", survey)
    camera = {r["image"]: (r["camera"], r["c_guessed"]) for r in rows(survey / "results" / "photos.csv")}
    assert camera["a.jpg"] == camera["b.jpg"], camera
    assert len(set(camera.values())) == 3, camera  # another body, another focal length


def test_moved_photos_are_found_by_their_content_and_changed_ones_are_new():
    home, away = WORK / "home", WORK / "away"
    home.mkdir()
    for image in GRID[:5]:
        shutil.copy(image, home)
    survey = WORK / "moved"
    good("new", survey, "--crs", "EPSG:25833+5773")
    good("admit", home, "--sortie", "grid", "-s", survey)
    tied = good("tie", "-s", survey)
    home.rename(away)
    gone = call("tie", "--keypoints", "900", "-s", survey)
    assert gone.code == 3 and "admit --photos" in gone.last, gone.err
    back = good("admit", "--photos", away, "-s", survey)
    assert back["photos"] == 5, back
    again = good("tie", "-s", survey)
    assert again["tie_points"] == tied["tie_points"], (again, tied)
    # Other pixels under the same name are another photo.
    shutil.copy(GRID[6], away / GRID[1].name)
    changed = good("admit", "-s", survey)
    assert changed["admitted"] == 1, changed
    assert good("tie", "-s", survey)["tie_points"] != tied["tie_points"]


def test_decisions_by_name_stand_until_they_are_changed():
    survey = new_survey(WORK / "decided")
    first = GRID[0].name
    dropped = good("admit", "--drop", f"{first[:-5]}[12]*", "-s", survey)
    by_hand = [s["image"] for s in dropped["screened_out"] if s["reason"] == "dropped by hand"]
    assert by_hand == [GRID[0].name, GRID[1].name], dropped
    again = good("admit", "-s", survey)
    assert [s["image"] for s in again["screened_out"]].count(first) == 1
    kept = good("admit", "--keep", "*", "-s", survey)
    assert kept["screened_out"] == [], kept
    nobody = call("admit", "--drop", "Z*", "-s", survey)
    assert nobody.code == 3 and "Z*" in nobody.last, nobody.err


def test_copies_and_a_single_photo_leave_nothing_to_tie():
    place = WORK / "copies"
    place.mkdir()
    for i in range(4):
        shutil.copy(GRID[0], place / f"copy{i}.jpg")
    survey = WORK / "copies-survey"
    good("new", survey, "--crs", "EPSG:25833+5773")
    answer = good("admit", place, "--sortie", "a", "-s", survey)
    assert sorted(s["image"] for s in answer["screened_out"]) == ["copy1.jpg", "copy2.jpg", "copy3.jpg"], answer
    assert all("copy of copy0.jpg" in s["reason"] for s in answer["screened_out"])
    refused = call("tie", "-s", survey)
    assert refused.code == 3 and "only one photo" in refused.last, refused.err


def test_heights_above_the_geoid_are_lifted_by_it():
    """[sortie.NAME] heights = "geoid": the geoid stands 30 to 40 m above the ellipsoid in the middle of Scandinavia."""
    heights = {}
    for kind in ("ellipsoidal", "geoid"):
        survey = WORK / f"heights-{kind}"
        good("new", survey, "--crs", "EPSG:25833+5773")
        with open(survey / "survey.toml", "a", encoding="utf-8") as settings:
            settings.write(f'\n[sortie.grid]\nheights = "{kind}"\n')
        good("admit", SMALL / "photos" / "grid", "--sortie", "grid", "-s", survey)
        good("export", "photos", "-s", survey)
        heights[kind] = {r["image"]: float(r["height"]) for r in rows(survey / "results" / "photos.csv")}
    lift = {i: heights["geoid"][i] - heights["ellipsoidal"][i] for i in heights["geoid"]}
    assert all(25 < v < 45 for v in lift.values()), lift
    assert max(lift.values()) - min(lift.values()) < 0.05, lift  # over a few hundred metres


def test_a_gap_in_the_flight_is_named():
    """The second half of the flight moved 300 m north: nobody sees what lies between."""
    survey = new_survey(WORK / "gap")
    whole = texts(good("admit", "-s", survey))
    names = {g.name for g in GRID}
    stations = [r for r in rows(SMALL / "truth" / "stations.csv") if r["image"] in names]
    table = WORK / "apart.csv"
    with open(table, "w", encoding="utf-8") as out:
        out.write("image,east,north,height\n")
        for k, r in enumerate(sorted(stations, key=lambda r: float(r["north"]))):
            out.write(f"{r['image']},{r['east']},{float(r['north']) + (300 if k >= 4 else 0)},{r['height']}\n")
    answer = good("admit", "--positions", table, "-s", survey)
    assert "fewer than two of them" in texts(answer) and "fewer than two of them" not in whole, (whole, texts(answer))


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
