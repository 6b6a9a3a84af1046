#!/usr/bin/python3
"""results/model.html in a browser, with real clicks and keys. Exit code 77, skipped, where there is no Chromium or it does not start."""
import math
import shutil
import sys
import time

from harness import SMALL, adjusted_survey, folder, good, rows, run_all

try:
    from osgeo import gdal
    from selenium import webdriver
    from selenium.common.exceptions import WebDriverException
    from selenium.webdriver.chrome.service import Service
    from selenium.webdriver.common.action_chains import ActionChains
    from selenium.webdriver.common.by import By
    from selenium.webdriver.support.ui import Select
except ImportError:
    sys.exit(77)
if not shutil.which("chromedriver"):
    sys.exit(77)

WORK = folder()
SITE = WORK / "site's <survey> & more"


def browser():
    options = webdriver.ChromeOptions()
    # Drawn by the processor, as on a machine without a graphics card.
    for word in ("--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--window-size=1280,900", f"--user-data-dir={WORK / 'profile'}"):
        options.add_argument(word)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    try:
        return webdriver.Chrome(service=Service(shutil.which("chromedriver")), options=options)
    except WebDriverException as reason:  # as where a container forbids what a browser needs
        print(f"skipped: Chromium does not start here: {reason}")
        sys.exit(77)


def test_a_client_opens_the_model_and_measures():
    adjusted_survey(SITE)
    made = good("mesh", "-s", SITE)
    driver = browser()
    driver.get((SITE / "results" / "model.html").as_uri())
    find = lambda selector: driver.find_element(By.CSS_SELECTOR, selector)
    view = find("#view")
    for _ in range(120):
        if view.get_attribute("data-ready"):
            break
        time.sleep(0.5)
    else:
        raise AssertionError(f"it was not drawn: {driver.get_log('browser')}")
    assert f"{made['levels'][0]['triangles']:,} triangles" in find("#tally").text
    find("#top").click()

    def settled():
        """Until nothing has been drawn anew for half a second."""
        drawn = -1
        while drawn != (drawn := view.get_attribute("data-drawn")):
            time.sleep(0.5)

    def places():
        return driver.execute_script("return [...document.querySelectorAll('#places tbody tr')].map(r => [...r.cells].map(c => c.textContent))")

    def click(dx, dy):
        before = len(places())
        settled()
        ActionChains(driver).move_to_element_with_offset(view, dx, dy).click().perform()
        for _ in range(40):
            if len(places()) > before:
                return [float(v) for v in places()[-1][1:4]]
            time.sleep(0.1)
        raise AssertionError("a click marked nothing")

    truth = gdal.Open(str(SMALL / "truth" / "surface.tif"))
    place, heights = truth.GetGeoTransform(), truth.GetRasterBand(1).ReadAsArray()
    first, second = click(-60, 40), click(80, -30)
    for e, n, h in (first, second):
        true = heights[int((n - place[3]) / place[5]), int((e - place[0]) / place[1])]
        assert abs(h - true) < 1.0, (h, true)  # GSD 0.16 m, whatever stands there
    # From above right is east and up is north, at one scale.
    east, north = second[0] - first[0], second[1] - first[1]
    assert east > 0 and north > 0 and abs(east / north - 140 / 70) < 0.3, (east, north)
    way = [cell.text for cell in driver.find_elements(By.CSS_SELECTOR, "#ways tbody td")]
    # In the zone's middle grid metres are 0.9996 of true ones.
    assert abs(float(way[3]) - math.hypot(east, north) / 0.9996) < 0.02 and abs(float(way[4]) - (second[2] - first[2])) < 0.002
    assert abs(float(way[1]) - math.hypot(float(way[3]), float(way[4]))) < 0.002
    names = {item.text for item in driver.find_elements(By.CSS_SELECTOR, "#sees li")}
    good_names = {row["image"] for row in rows(SITE / "results" / "photos.csv")}
    assert len(names) >= 2 and names <= good_names
    for look in ("shade", "heights", "sure"):
        find(f"[data-look={look}]").click()
        assert find(f"[data-look={look}]").get_attribute("aria-pressed") == "true"
    assert "guess" in find("#legend").text
    Select(find("#axis")).select_by_value("x")
    driver.execute_script("const w = document.getElementById('where'); w.value = 0; w.dispatchEvent(new Event('input'));")
    assert "at east" in find("#cut_at").text
    settled()
    count = len(places())
    ActionChains(driver).move_to_element_with_offset(view, 80, -30).click().perform()  # all is cut away
    time.sleep(1)
    assert len(places()) == count
    find("#undo").click()
    assert len(places()) == count - 1
    assert not [entry for entry in driver.get_log("browser") if entry["level"] == "SEVERE"]
    driver.quit()


if __name__ == "__main__":
    run_all(sys.modules[__name__])
