#!/usr/bin/python3
"""Bad input, one row of bad_input.tsv each: exit code, one sentence, and a survey that stays as it was."""
import shlex
import shutil
import sys
from pathlib import Path

from harness import SMALL, call, folder, good, new_survey, run_all

WORK = folder()
BAD, S = WORK / "bad", WORK / "survey"
TABLE = Path(__file__).with_name("bad_input.tsv")


def layer(geometry, properties):
    return f'{{"type":"FeatureCollection","features":[{{"type":"Feature","properties":{properties},"geometry":{geometry}}}]}}'


def prepare():
    new_survey(S)
    good("control", SMALL / "control.csv", "-s", S)
    for name in ("broken", "nothing"):
        (BAD / name).mkdir(parents=True)
    photo = (SMALL / "photos" / "grid" / "G0001.jpg").read_bytes()
    (BAD / "broken" / "cut.jpg").write_bytes(photo[: len(photo) // 2])
    (BAD / "broken" / "text.jpg").write_text("no photo at all")
    files = {
        "no_height.csv": "id,east,north\nA,1,2\n",
        "not_number.csv": "id,east,north,height\nA,1,2,high\n",
        "infinite.csv": "id,east,north,height\nA,1,inf,3\n",
        "twice.csv": "id,east,north,height\nA,1,2,3\nA,1,2,3\n",
        "unknown_photo.csv": "image,point,x,y\nnobody.jpg,K01,1,2\n",
        "unknown_point.csv": "image,point,x,y\nG0001.jpg,Q1,1,2\n",
        "sighting_text.csv": "image,point,x,y\nG0001.jpg,K01,left,2\n",
        "no_layer.geojson": '{"type": "Feature',
        "lines.geojson": layer('{"type":"LineString","coordinates":[[13.7,61.5],[13.8,61.5]]}', '{"id":"A"}'),
        "nameless.geojson": layer('{"type":"Point","coordinates":[13.7,61.5,600]}', '{"material":"A"}'),
        "sigma_zero.geojson": layer('{"type":"Point","coordinates":[13.7,61.5,600]}', '{"id":"A","sigma_h":0.0}'),
        "bar_length.csv": "id,a,b,length,sigma\nB1,K01,K02,-5,0.01\n",
        "bar_sigma.csv": "id,a,b,length\nB1,K01,K02,5\n",
        "elsewhere.csv": "id,east,north,height\nQ1,1,2,3\n",
    }
    for name, text in files.items():
        (BAD / name).write_text(text)
    head = 'schema = 1\n[survey]\ncrs = "EPSG:25833+5773"\n'
    for name, text in {"empty": head, "key": head + "[tie]\nkeypoint = 3\n", "toml": head + "= 3\n"}.items():
        (BAD / name).mkdir()
        (BAD / name / "survey.toml").write_text(text)


def inputs_of(survey):
    return {path: path.read_bytes() for path in [survey / "survey.toml", *sorted((survey / "inputs").iterdir())]}


def test_every_row_of_the_table():
    prepare()
    before = inputs_of(S)
    rows = [line.split("\t") for line in TABLE.read_text().splitlines() if line and not line.startswith("#")]
    assert len(rows) > 35
    wrong = []
    for name, code, sentence, command in rows:
        words = shlex.split(command.replace("*", "\\*"))
        places = {"SMALL": SMALL, "BAD": BAD, "S": S, "N": WORK / "fresh"}
        words = [str(places[w.split("/")[0]] / "/".join(w.split("/")[1:])) if w.split("/")[0] in places else w for w in words]
        result = call(*words)
        if result.code != int(code) or sentence not in result.last or not result.last.startswith("error: "):
            wrong.append(f"{name}: code {result.code}, said {result.last!r}")
        json_result = call(*words, "--json")
        if json_result.json["error"] is None or sentence not in json_result.json["error"]["text"]:
            wrong.append(f"{name}: --json says {json_result.json['error']}")
        if (WORK / "fresh").exists():
            wrong.append(f"{name}: left something behind")
            shutil.rmtree(WORK / "fresh")
    assert not wrong, "\n".join(wrong)
    assert inputs_of(S) == before, "a refused command changed the survey"
    assert not list(WORK.rglob("*.part")), "something half-written stays"


def test_a_damaged_photo_among_good_ones_is_left_out_and_the_rest_go_on():
    photos = WORK / "mixed"
    shutil.copytree(SMALL / "photos" / "grid", photos)
    whole = (photos / "G0002.jpg").read_bytes()
    (photos / "G0002.jpg").write_bytes(whole[: len(whole) // 2])
    place = WORK / "mixed_survey"
    good("new", place, "--crs", "EPSG:25833+5773")
    answer = good("admit", photos, "--sortie", "grid", "-s", place)
    reasons = {p["image"]: p["reason"] for p in answer["screened_out"]}
    assert reasons["G0002.jpg"].startswith("unreadable (") and len(reasons) == 2, reasons
    assert good("tie", "-s", place)["pairs_verified"] > 5
    (photos / "G0002.jpg").write_bytes(whole)
    assert "G0002.jpg" not in str(good("admit", "-s", place)["screened_out"]), "a mended photo is taken in"


def test_nothing_ties_the_block_to_the_ground():
    """Photos stripped of their positions, and no control: one sentence, and the survey goes on once there is some."""
    photos = WORK / "bare"
    photos.mkdir()
    for path in sorted((SMALL / "photos" / "grid").iterdir()):
        data = path.read_bytes()
        # Cut the APP1 segment (EXIF) out: FF E1, then its length in two bytes, big-endian.
        at = data.index(b"\xff\xe1")
        (photos / path.name).write_bytes(data[:at] + data[at + 2 + int.from_bytes(data[at + 2 : at + 4], "big") :])
    place = WORK / "bare_survey"
    good("new", place, "--crs", "EPSG:25833+5773")
    admitted = call("admit", photos, "--sortie", "grid", "-s", place)
    assert "is a guess" in admitted.err
    good("tie", "-s", place)
    free = call("orient", "-s", place)
    assert free.code == 0 and "the block is free" in free.err and "free: scale and place unknown" in free.out, free.err
    refused = call("adjust", "-s", place)
    assert refused.code == 3 and "control" in refused.last, refused.last
    good("control", SMALL / "control.csv", "-s", place)
    sightings = [line for line in (SMALL / "sightings.csv").read_text().splitlines() if line.startswith(("image", "G"))]
    (WORK / "grid_sightings.csv").write_text("\n".join(sightings) + "\n")
    good("sight", "--import", WORK / "grid_sightings.csv", "-s", place)
    assert good("orient", "-s", place)["oriented"] >= 7
    check = good("adjust", "-s", place)["check"]
    assert check["rmse_east"] < 0.3 and check["rmse_height"] < 0.6, check


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
