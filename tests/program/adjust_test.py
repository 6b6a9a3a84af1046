#!/usr/bin/python3
"""Suspects, decisions, results side by side, advice and their report. By the built program: usage as in harness.py."""
import json
import shutil
import sys

from harness import SMALL, call, folder, good, new_survey, rows, run_all

WORK = folder()
SURVEY = new_survey(WORK / "s")
good("control", SMALL / "control.csv", "-s", SURVEY)
good("sight", "--import", SMALL / "sightings.csv", "-s", SURVEY)
good("tie", "-s", SURVEY)
good("orient", "-s", SURVEY)
HEIGHT = 0.9  # m, put onto one control point: many times what the small block can find


def spoiled(name):
    """A copy of the survey with one height of control wrong, and which."""
    where = WORK / name
    shutil.copytree(SURVEY, where)
    control = rows(where / "inputs" / "control.csv")
    victim = [r for r in control if r["role"] == "control"][2]
    victim["height"] = f"{float(victim['height']) + HEIGHT:.5f}"
    (where / "inputs" / "control.csv").write_text(
        ",".join(control[0]) + "\n" + "\n".join(",".join(r.values()) for r in control) + "\n"
    )
    return where, victim["id"]


def test_every_table_is_written_and_agrees_with_the_summary():
    answer = good("adjust", "-s", SURVEY)
    left = rows(SURVEY / "results" / "left_out.csv")
    control = [r for r in rows(SURVEY / "results" / "control.csv") if r["role"] == "control"]
    assert [r["id"] for r in left] == [r["id"] for r in control]
    known = [float(r["d_height"]) for r in left if r["d_height"]]
    rmse = (sum(v * v for v in known) / len(known)) ** 0.5
    assert abs(rmse - answer["left_out"]["rmse_height"]) < 1e-5 and answer["left_out"]["count"] == len(known)
    tested = rows(SURVEY / "results" / "reliability.csv")
    plan = [g for g in answer["groups"] if g["name"] == "control plan"][0]
    mine = [float(r["redundancy"]) for r in tested if r["kind"] == "control" and r["component"] != "height"]
    assert len(mine) == plan["n"] and abs(sum(mine) - plan["redundancy"]) < 1e-3
    for r in tested:  # 4.13 sigma / sqrt(r) found; a smaller redundancy hides a larger error
        assert float(r["redundancy"]) <= 1.0001
    low, high = answer["sigma0_interval"]
    assert low < 1 < high
    for camera in answer["calibration"]:
        assert all(abs(row[-1] - 1) < 1e-9 for row in camera["correlations"])


def test_a_false_height_is_named_snooped_and_left_out_by_decision():
    where, victim = spoiled("snoop")
    answer = good("adjust", "-s", where)
    worst = answer["suspects"][0]
    assert worst["item"] == f"{victim}:height" and abs(worst["size"] - HEIGHT) < 0.35, worst
    snooped = good("adjust", "--snoop", "-s", where)
    assert snooped["set_aside"][0]["item"] == f"{victim}:height" and snooped["set_aside"][0]["by"] == "snoop"
    assert good("adjust", "-s", where)["set_aside"] == []  # it held for that run alone
    spoken = call("adjust", "--snoop", "-s", where)
    assert f"--without {victim}:height" in spoken.err and "set aside" in spoken.err
    trial = good("adjust", "--without", f"{victim}:height", "--as", "trial", "-s", where)
    assert (where / "results" / "as" / "trial" / "adjustment.json").exists()
    assert good("adjust", "-s", where)["set_aside"] == []  # a trial decides nothing
    kept = good("adjust", "--without", f"{victim}:height", "-s", where)
    assert kept["set_aside"] == [{"item": f"{victim}:height", "by": "decision"}]
    assert kept["check"]["rmse_height"] == trial["check"]["rmse_height"] < answer["check"]["rmse_height"]
    assert good("adjust", "-s", where)["set_aside"] == kept["set_aside"]
    assert good("adjust", "--with", f"{victim}:height", "-s", where)["set_aside"] == []
    for option, item, words in (("--without", "K01@NOWHERE.jpg", "no such observation"), ("--with", victim, "was not left out")):
        refused = call("adjust", option, item, "-s", where)
        assert refused.code == 3 and words in refused.last, refused.last


def test_worst_residuals_come_first_and_can_be_left_out_by_their_list():
    where = WORK / "worst"
    shutil.copytree(SURVEY, where)
    before = good("adjust", "-s", where)
    good("export", "residuals", "--worst", 6, "-s", where)
    worst = rows(where / "results" / "residuals.csv")
    sizes = [float(r["over_sigma"]) for r in worst]
    assert len(sizes) == 6 and sizes == sorted(sizes, reverse=True)
    after = good("adjust", "--without", where / "results" / "residuals.csv", "-s", where)
    assert after["observations"] < before["observations"]
    assert {a["item"] for a in after["set_aside"]} == {r["item"] for r in worst}
    good("export", "residuals", "-s", where)
    assert not {r["item"] for r in worst} & {r["item"] for r in rows(where / "results" / "residuals.csv")}


def test_report_compares_and_draws():
    good("adjust", "-s", SURVEY)
    good("adjust", "--fix-camera", "--as", "fixed & held", "-s", SURVEY)
    good("report", "--compare", "fixed & held", "-s", SURVEY)
    html = (SURVEY / "results" / "report.html").read_text()
    assert "fixed &amp; held" in html and "Beside another adjustment" in html and "<script" not in html
    for name in "overview overlap sigma shifts errors_plan errors_height bend residuals sensor_1 distortion_1 correlation_1".split():
        assert (SURVEY / "results" / "figures" / f"{name}.png").read_bytes()[:4] == b"\x89PNG", name
    assert html.count("data:image/svg+xml;base64,") >= 11
    missing = call("report", "--compare", "nobody", "-s", SURVEY)
    assert missing.code == 3 and "adjust --as nobody" in missing.last


def test_advice_names_places_that_lower_the_largest_sigma():
    answer = good("adjust", "--advise", 2, "-s", SURVEY)
    advice = rows(SURVEY / "results" / "advice.csv")
    assert len(advice) == len(answer["advice"]) == 2
    assert answer["advice"][0]["after"] < answer["advice"][0]["before"]
    assert answer["advice"][1]["before"] == answer["advice"][0]["after"]
    assert (SURVEY / "results" / "figures" / "advice.png").exists()


def control_file(where, change):
    """The survey's control as a file of its own, after `change` of its rows by id."""
    control = rows(where / "inputs" / "control.csv")
    change({r["id"]: r for r in control})
    file = where / "changed.csv"
    file.write_text(",".join(control[0]) + "\n" + "\n".join(",".join(r.values()) for r in control) + "\n")
    return file


def test_points_exchanged_and_a_stray_click_are_said_as_they_come_in_and_set_aside_first():
    where = WORK / "exchanged"
    shutil.copytree(SURVEY, where)
    names = [r["id"] for r in rows(where / "inputs" / "control.csv") if r["role"] == "control"][:2]

    def exchange(by_id):
        a, b = (by_id[n] for n in names)
        for key in ("east", "north", "height"):
            a[key], b[key] = b[key], a[key]

    told = call("control", control_file(where, exchange), "-s", where)
    assert f"{names[0]} and {names[1]} look exchanged" in told.err, told.err
    snooped = call("adjust", "--snoop", "--json", "-s", where)
    assert snooped.code == 0, snooped.err
    assert {a["item"] for a in json.loads(snooped.out)["set_aside"]} >= set(names)

    where = WORK / "stray"
    shutil.copytree(SURVEY, where)
    table = rows(where / "inputs" / "sightings.csv")
    stray = next(r for r in table if r["point"] == names[0])
    stray["x"] = str(float(stray["x"]) + (150 if float(stray["x"]) < 200 else -150))
    (where / "stray.csv").write_text("image,point,x,y\n" + ",".join(stray[k] for k in ("image", "point", "x", "y")) + "\n")
    told = call("sight", "--import", where / "stray.csv", "-s", where)
    assert f"{names[0]} in {stray['image']} lies 1" in told.err and "from where its other photos put it" in told.err, told.err
    answer = good("adjust", "--snoop", "-s", where)
    assert [a["item"] for a in answer["set_aside"]] == [f"{names[0]}@{stray['image']}"]


def test_weights_are_estimated_unless_they_are_given():
    where = WORK / "weights"
    shutil.copytree(SURVEY, where)
    estimated = good("adjust", "-s", where)
    assert estimated["ties"]["estimated"] and 1 < estimated["ties"]["independent"] <= estimated["ties"]["rays"]
    (where / "survey.toml").write_text((where / "survey.toml").read_text() + '\n[adjust]\nweights = "given"\n')
    given = good("adjust", "-s", where)
    assert not given["ties"]["estimated"] and given["ties"]["sigma"] == 0.5
    ties, was = ([g for g in a["groups"] if g["name"] == "ties"][0] for a in (estimated, given))
    assert abs(ties["sigma0"] - 1) < 0.011 and was["scale"] == 1
    # A factor on all ties beside control and positions moves their residuals little: what all of them have lies between
    # what the best and the worst photo have.
    pooled, ties = 0.5 * was["sigma0"], estimated["ties"]
    assert 0.9 * ties["least"] < pooled < 1.1 * ties["most"] and ties["least"] <= ties["sigma"] <= ties["most"], ties


if __name__ == "__main__":
    sys.exit(run_all(sys.modules[__name__]))
