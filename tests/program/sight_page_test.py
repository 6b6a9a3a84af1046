#!/usr/bin/python3
"""results/sight.html in a browser, with real clicks and keys. Exit code 77, skipped, where there is no Chromium or it does not start."""
import math
import shutil
import sys
import time

from harness import SMALL, call, folder, good, new_survey, rows, run_all

try:
    from selenium import webdriver
    from selenium.common.exceptions import WebDriverException
    from selenium.webdriver.common.action_chains import ActionChains
    from selenium.webdriver.common.by import By
    from selenium.webdriver.common.keys import Keys
    from selenium.webdriver.chrome.service import Service
    from selenium.webdriver.support.ui import Select
except ImportError:
    sys.exit(77)
if not shutil.which("chromedriver"):
    sys.exit(77)

WORK = folder()
SURVEY = WORK / "site's <survey> & more"


def browser():
    options = webdriver.ChromeOptions()
    for word in ("--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--window-size=1280,1000", f"--user-data-dir={WORK / 'profile'}"):
        options.add_argument(word)
    options.add_experimental_option("prefs", {"download.default_directory": str(WORK), "download.prompt_for_download": False})
    try:
        return webdriver.Chrome(service=Service(shutil.which("chromedriver")), options=options)
    except WebDriverException as reason:  # as where a container forbids what a browser needs
        print(f"skipped: Chromium does not start here: {reason}")
        sys.exit(77)


def row_of(image, point):
    return next(r for r in rows(SURVEY / "results" / "sightings.csv") if (r["image"], r["point"]) == (image, point))


def of_point(point):
    return [r for r in rows(SURVEY / "results" / "sightings.csv") if r["point"] == point]


def test_a_person_sights_on_the_page_and_the_survey_takes_it():
    new_survey(SURVEY)
    good("tie", "-s", SURVEY)
    good("orient", "-s", SURVEY)
    good("control", SMALL / "control.csv", "-s", SURVEY)
    good("sight", "-s", SURVEY)
    driver = browser()
    find = lambda selector: driver.find_element(By.CSS_SELECTOR, selector)
    press = lambda *keys: ActionChains(driver).send_keys(*keys).perform()
    chosen = lambda: (find("#photo").text, find("#name").text.split(" ")[0])

    def click_beside(dx, dy):
        """A click so many screen pixels beside the middle of the view: so many photo pixels beside the cross-hair."""
        ActionChains(driver).move_to_element_with_offset(find("#view"), dx, dy).click().perform()
        return driver.execute_script("return zoom")

    page = (SURVEY / "results" / "sight.html").as_uri()
    driver.get(page)
    points = [p.text.split("\n")[0].split(" ")[0] for p in driver.find_elements(By.CSS_SELECTOR, "#points div")]
    assert points == sorted(r["id"] for r in rows(SMALL / "control.csv"))
    next(p for p in driver.find_elements(By.CSS_SELECTOR, "#points div") if p.text.startswith("K03")).click()
    assert len(driver.find_elements(By.CSS_SELECTOR, ".chip")) == len(of_point("K03")) >= 4
    found = len([r for r in of_point("K04") if r["state"] == "found"])

    clicked, before = chosen(), row_of(*chosen())
    zoom = click_beside(60, -36)
    press(Keys.ARROW_RIGHT, Keys.ARROW_RIGHT)  # 0.2 pixels, and upwards 1
    ActionChains(driver).key_down(Keys.SHIFT).send_keys(Keys.ARROW_UP).key_up(Keys.SHIFT).perform()
    press("n")
    rejected = chosen()
    press("x")
    confirmed = chosen()
    assert len({clicked, rejected, confirmed}) == 3
    kept = row_of(*confirmed)
    find("#confirm").click()
    undone = chosen()
    press("c", "p", "u")
    press("j")
    assert chosen()[1] == "K04", chosen()
    press("a")
    assert chosen()[1] != "K04" or chosen()[0] in [r["image"] for r in of_point("K04") if r["state"] == "predicted"]

    driver.get(page)  # what is not saved outlives the page
    assert "changes not saved" in find("#tally").text, find("#tally").text
    other = Select(find("#other"))
    whole = other.options[1].text
    other.select_by_visible_text(whole)
    for _ in range(50):
        if find("#photo").text == whole:
            break
        time.sleep(0.1)
    size = driver.execute_script("return middle.map(v => 2 * v)")
    by_eye, scale = chosen(), click_beside(100, 50)
    assert size == [480, 360] and by_eye[0] == whole
    press("s")
    saved = WORK / "sightings.csv"
    for _ in range(100):
        if saved.exists():
            break
        time.sleep(0.1)
    driver.quit()

    told = good("sight", "--import", saved, "-s", SURVEY)
    assert (told["confirmed"], told["rejected"]) == (3 + found, 1), (told["confirmed"], told["rejected"])
    after = row_of(*clicked)
    assert after["state"] == "confirmed" and after["origin"] == "clicked in sight.html" and after["sigma"] == ""
    # Of what the screen shows, a pixel is 1 / zoom of the photo's; the middle of the view falls between two of them.
    assert abs(float(after["x"]) - float(before["x"]) - 60 / zoom - 0.2) < 1.01 / zoom, (before, after, zoom)
    assert abs(float(after["y"]) - float(before["y"]) + 36 / zoom + 1.0) < 1.01 / zoom, (before, after, zoom)
    assert row_of(*rejected)["state"] == "rejected" and row_of(*undone)["state"] in ("found", "predicted")
    same = row_of(*confirmed)
    assert same["state"] == "confirmed" and (same["x"], same["y"]) == (kept["x"], kept["y"])
    placed = row_of(*by_eye)
    assert math.hypot(float(placed["x"]) - 240 - 100 / scale, float(placed["y"]) - 180 - 50 / scale) < 1.42 / scale, (placed, scale)


if __name__ == "__main__":
    try:
        run_all(sys.modules[__name__])
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
