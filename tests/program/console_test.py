#!/usr/bin/python3
"""What people see: help, progress, JSON of failures, a disk that refuses."""
import json
import re
import resource
import shutil
import signal
import subprocess
import sys
from pathlib import Path

from harness import PROGRAM, SMALL, call, folder, good, new_survey, run_all

WORK = folder()
COMMANDS = "new crs admit tie orient control sight adjust report measure densify cloud export run status simulate demo".split()


def told_of(manual, command):
    """The sections of the manual whose heading names a command."""
    sections = re.split(r"^## ", manual, flags=re.MULTILINE)
    return "".join(s for s in sections if command in s.splitlines()[0].replace(",", "").split())


def test_every_command_tells_of_itself():
    overview = call("--help")
    assert overview.code == 0
    manual = (Path(__file__).resolve().parents[2] / "docs" / "manual.md").read_text()
    for command in COMMANDS:
        assert f"  {command} " in overview.out, command
        told = call(command, "--help")
        assert told.code == 0 and "--survey" in told.out and "--json" in told.out
        assert any(line.startswith("## ") and command in line.replace(",", "").split() for line in manual.splitlines()), f"the manual does not tell of {command}"
        # Every option of its own is in the manual too, by name.
        for line in told.out.splitlines():
            words = line.split()
            option = next((w for w in words[:3] if w.startswith("--")), None)
            if option and option not in ("--survey", "--threads", "--json", "--quiet", "--strict", "--trace", "--help"):
                assert re.search(re.escape(option) + r"(?![\w-])", told_of(manual, command)), f"{command} {option} is not in the manual's section"
    assert call("--version").out.startswith("mesograph 0.")
    assert call().code == 2


def test_pages_for_others_come_from_the_same_options():
    page = call("help", "options").out
    assert page == (Path(__file__).resolve().parents[2] / "docs" / "options.md").read_text(), "docs/options.md: mesograph help options"
    manual, completion = call("help", "man").out, call("help", "bash").out
    for command in COMMANDS:
        for option in re.findall(r"--[\w-]+", call(command, "--help").out):
            assert option in completion and option.replace("-", "\\-") in manual, (command, option)
    assert not any(line.startswith("'") for line in manual.splitlines())  # a quote begins a request
    script = f'source /dev/stdin; COMP_WORDS=(mesograph densify --sp); COMP_CWORD=2; _mesograph; echo "${{COMPREPLY[@]}}"'
    assert subprocess.run(["bash", "-c", script], input=completion, capture_output=True, text=True).stdout == "--spacing\n"


def test_json_is_one_object_also_on_failure():
    failed = call("status", "-s", WORK, "--json")
    assert failed.code == 3
    answer = json.loads(failed.out)
    assert answer["command"] == "status" and "no survey" in answer["error"]["text"] and answer["warnings"] == []
    wrong = call("tie", "--nonsense", "--json")
    assert wrong.code == 2 and json.loads(wrong.out)["error"]["text"]
    place = new_survey(WORK / "warned")
    warned = good("admit", "-s", place)["warnings"]
    assert warned and set(warned[0]) == {"code", "subject", "text"}
    assert call("tie", "--threads", "0", "-s", place).code == 2


def test_progress_goes_to_stderr_and_quiet_is_quiet():
    place = new_survey(WORK / "talks")
    told = call("admit", "-s", place)
    assert "left out: blurred" in told.err and "left out" not in told.out
    assert call("admit", "-s", place, "--quiet").err == ""


def test_a_trace_says_what_was_done_when():
    place, file = new_survey(WORK / "traced"), WORK / "trace.json"
    seconds = good("admit", "-s", place, "--trace", file)["seconds"]
    events = [e for e in json.loads(file.read_text())["traceEvents"] if e["ph"] == "X"]
    steps = [e for e in events if e["tid"] == 0]
    parts = [e for e in events if e["tid"] > 0]
    assert steps and parts and all(e["dur"] >= 0 for e in events)
    assert sum(e["dur"] for e in steps) < 1.05e6 * seconds  # one after another, within the call
    looked = max(steps, key=lambda e: e["args"]["parts"])
    done = [e for e in parts if e["name"] == looked["name"]]
    assert sum(e["args"]["parts"] for e in done) == looked["args"]["parts"]
    for e in done:  # within their step, but for the microseconds between two looks at the clock
        assert e["ts"] > looked["ts"] - 100 and e["ts"] + e["dur"] < looked["ts"] + looked["dur"] + 100
    refused = call("tie", "-s", place, "--trace", file / "trace.json")  # a file is no folder
    assert refused.code == 3 and "cannot be written" in refused.last, refused.last
    assert not (place / "store" / "keypoints").exists()  # said before the work


def limited(*words, size):
    """A call under a limit of file size: writes beyond it fail as on a full disk."""

    def refuse():
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (size, size))

    return subprocess.run([PROGRAM, *map(str, words)], capture_output=True, text=True, preexec_fn=refuse)


def test_a_disk_that_refuses_loses_nothing():
    place = new_survey(WORK / "full")
    refused = limited("tie", "-s", place, "--quiet", size=40_000)  # keypoints of a photo need about 100 kB
    assert refused.returncode == 3, (refused.returncode, refused.stderr)
    assert "cannot be written" in refused.stderr.splitlines()[-1], refused.stderr
    assert not list(place.rglob("*.part"))
    good("tie", "-s", place)
    good("orient", "-s", place)
    good("control", SMALL / "control.csv", "-s", place)
    good("sight", "--import", SMALL / "sightings.csv", "-s", place)
    before = {path: path.read_bytes() for path in (place / "inputs").iterdir()}
    good("adjust", "-s", place)
    summary = (place / "results" / "adjustment.json").read_bytes()
    for size in (100, 2_000, 20_000, 100_000):
        refused = limited("adjust", "--fix-camera", "-s", place, "--quiet", size=size)
        assert refused.returncode == 3 and refused.stderr.startswith("error: "), (size, refused.stderr)
    assert {path: path.read_bytes() for path in (place / "inputs").iterdir()} == before
    assert not list(place.rglob("*.part"))
    assert good("adjust", "-s", place)["sigma0"] == json.loads(summary)["sigma0"]


def test_a_folder_that_cannot_be_made_is_one_sentence():
    (WORK / "file").write_text("not a folder")
    refused = call("new", WORK / "file" / "s", "--crs", "local")
    assert refused.code == 3 and "cannot be made" in refused.last, refused.last


def test_moved_photos_are_noticed():
    photos = WORK / "photos"
    shutil.copytree(SMALL / "photos" / "grid", photos)
    place = WORK / "moved"
    good("new", place, "--crs", "EPSG:25833+5773")
    good("admit", photos, "--sortie", "grid", "-s", place)
    photos.rename(WORK / "elsewhere")
    states = {s["name"]: s for s in good("status", "-s", place)["stages"]}
    assert states["admit"]["state"] == "out of date" and "not where it was" in states["admit"]["reason"]
    refused = call("run", "-s", place)
    assert refused.code == 3 and "does not exist" in refused.last
    shutil.copy(SMALL / "photos" / "cross" / "C0010.jpg", WORK / "elsewhere")
    found = good("admit", "--photos", WORK / "elsewhere", "-s", place)
    assert found["photos"] == 10 and str(WORK / "elsewhere") in (place / "inputs" / "sorties.toml").read_text()
    assert {s["name"]: s for s in good("status", "-s", place)["stages"]}["admit"]["state"] == "current"
    (WORK / "nothing").mkdir()
    (WORK / "elsewhere").rename(photos)
    lost = call("admit", "--photos", WORK / "nothing", "-s", place)
    assert lost.code == 3 and "none of the survey's photos" in lost.last, lost.last
    good("admit", "--photos", photos, "-s", place)
    assert {s["name"]: s for s in good("status", "-s", place)["stages"]}["admit"]["state"] == "current"


def test_the_same_name_in_two_sorties():
    """Two cameras count from 0001: photos are told apart by their sortie."""
    for name, source in (("a", "grid"), ("b", "cross")):
        (WORK / "twins" / name).mkdir(parents=True)
        for i, path in enumerate(sorted((SMALL / "photos" / source).iterdir())[:3]):
            shutil.copy(path, WORK / "twins" / name / f"DSC{i}.jpg")
    place = WORK / "twin_survey"
    good("new", place, "--crs", "EPSG:25833+5773")
    for name in "ab":
        good("admit", WORK / "twins" / name, "--sortie", name, "-s", place)
    good("tie", "-s", place)
    text = call("export", "keypoints", "--out", "-", "-s", place).out
    assert {line.split(",")[0] for line in text.splitlines()[1:]} == {f"{s}/DSC{i}.jpg" for s in "ab" for i in range(3)}
    dropped = good("admit", "--drop", "b/DSC1*", "-s", place)
    assert [(p["image"], p["reason"]) for p in dropped["screened_out"]] == [("b/DSC1.jpg", "dropped by hand")]
    assert good("admit", "--keep", "b/DSC1*", "-s", place)["screened_out"] == []
    # A copy under another name is the same photo, and said; the same file by another way counts once.
    shutil.copy(WORK / "twins" / "a" / "DSC0.jpg", WORK / "twins" / "a" / "copy.jpg")
    again = good("admit", WORK / "twins" / "a", WORK / "twins" / "a" / "DSC1.jpg", "--sortie", "a", "-s", place)
    assert again["photos"] == 4
    assert {p["reason"] for p in again["screened_out"]} <= {"a copy of DSC0.jpg", "a copy of copy.jpg"}, again
    assert len(again["screened_out"]) == 1


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
