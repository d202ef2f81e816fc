"""The page in a real browser: what opens, filters, links and keys do, and that it asks for nothing.

Accessibility is checked by axe-core, which knows the rules of WCAG.
"""

import json
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import document, hot_anvil, lacking, write_bench

EVIL = '<script>window.harmed = 1</script><img src=x onerror="window.harmed = 1">'
SOURCE = f"""\
/* {EVIL} \x1b[31mred\x1b[0m \u202egnorw siht\u202c & ]]> --> </style></pre> */
int over_alarm(const int *levels, int n, int alarm)
{{
    int count = 0;
    for (int i = 0; i < n; i++)
        if (levels[i] > alarm) // `</code>` | * _pipe_ [x](http://quay.invalid) {EVIL}
            count++;
    return count;
}}
"""
BENCH = """\
title = "Alarms </title><script>window.harmed = 1</script>"
[flags]
plain = "-O0"
fast = "-O2"
wide = "-O3"
[grid]
toolchains = ["gcc"]
flags = ["plain", "fast", "wide"]
[[snippet]]
name = "alarms"
sources = ["alarms.c"]
[snippet.inputs]
levels = { fill = "uniform(-500, 500)", count = "n" }
n = 256
alarm = 100
"""


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return write_bench(tmp_path_factory.mktemp("page") / "quay", BENCH, alarms=SOURCE)


@pytest.fixture(scope="module")
def page(bench: Path) -> Path:
    """A page made after a pick and a look for hotspots."""
    for command, *names in (("pick",), ("hotspots", "gcc:fast")):
        done = hot_anvil(command, bench, *names, "--seconds", "0.05")
        assert done.returncode == 0, done.stderr
    file = bench.parent / "page.html"
    done = hot_anvil("report", bench, "--out", file)
    assert done.returncode == 0, done.stderr
    return file


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    """A headless Chromium that writes down what it asks a network for."""
    chromium, driver = shutil.which("chromium"), shutil.which("chromedriver")
    if not chromium or not driver:
        lacking("chromium or chromedriver")
        return
    webdriver = pytest.importorskip("selenium.webdriver")
    options = webdriver.ChromeOptions()
    options.binary_location = chromium
    profile = tmp_path_factory.mktemp("profile")
    for word in (
        "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
        "--disable-background-networking", "--disable-component-update", "--disable-sync",
        "--window-size=1280,900", f"--user-data-dir={profile}",
    ):  # fmt: skip
        options.add_argument(word)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    made = webdriver.Chrome(options=options, service=webdriver.ChromeService(driver))
    made.set_script_timeout(180)
    yield made
    made.quit()


def opened(browser: Any, page: Path, fragment: str = "") -> Any:
    browser.get("about:blank")
    browser.get(page.as_uri() + fragment)
    return browser


def press(browser: Any, keys: str) -> None:
    from selenium.webdriver.common.action_chains import ActionChains

    ActionChains(browser).send_keys(keys).perform()


def test_the_page_asks_for_nothing_and_complains_of_nothing(browser: Any, page: Path) -> None:
    browser.get("about:blank")
    browser.get_log("performance")
    browser.get_log("browser")
    opened(browser, page)
    sent = [json.loads(row["message"])["message"] for row in browser.get_log("performance")]
    asked = [m["params"]["request"]["url"] for m in sent if m["method"] ==
             "Network.requestWillBeSent"]  # fmt: skip
    assert {url for url in asked if not url.startswith("about:")} == {page.as_uri()}
    assert browser.get_log("browser") == []
    assert browser.execute_script("return window.harmed") is None
    shown = browser.find_element("tag name", "body").text
    assert "<script>window.harmed" in shown and "\\u202egnorw" in shown and "\\x1b[31m" in shown
    assert "pick" in shown and "How sure each figure is" in shown


def test_a_line_opens_to_every_builds_code_and_reasons(browser: Any, page: Path) -> None:
    opened(browser, page, "#alarms-alarms.c-6")
    line = browser.find_element("id", "alarms-alarms.c-6")
    assert line.get_attribute("open") is not None
    text = line.text
    listing = document("listing", page.parent / "quay", "gcc:plain")["functions"][0]["lines"]
    (own,) = (row for row in listing if row["line"] == 6)
    for item in own["instructions"]:
        assert item["mnemonic"] in text
    for build in ("gcc-12:plain", "gcc-12:fast", "gcc-12:wide"):
        assert build in text
    assert "link to this line" in text
    hot = browser.find_elements("css selector", "details.line:has(.heat)")
    assert hot and "of the time of" in hot[0].find_element("css selector", ".open").get_attribute(
        "textContent"
    )
    other = browser.find_element("id", "alarms-alarms.c-7")
    assert other.get_attribute("open") is None
    other.find_element("css selector", "summary").click()
    assert other.get_attribute("open") is not None


def test_the_filter_and_the_keys(browser: Any, page: Path) -> None:
    opened(browser, page)
    every = browser.find_elements("css selector", "details.line")
    press(browser, "/")
    press(browser, "count++")
    browser.execute_async_script("setTimeout(arguments[0], 400)")
    left = [line for line in every if line.is_displayed()]
    assert 0 < len(left) < len(every)
    assert f"{len(left)} of {len(every)} lines" in browser.find_element("id", "found").text
    press(browser, "\ue003" * len("count++") + "\ue00c")  # backspaces, and escape leaves it
    browser.execute_async_script("setTimeout(arguments[0], 400)")
    assert all(line.is_displayed() for line in every)
    press(browser, "j")
    press(browser, "j")
    press(browser, "\ue007")
    opens = [line.get_attribute("open") is not None for line in every]
    assert opens.index(True) == 1 and opens.count(True) == 1
    press(browser, "?")
    assert browser.find_element("id", "help").is_displayed()


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_no_rule_of_accessibility_is_broken(browser: Any, page: Path, scheme: str) -> None:
    import axe_core_python

    opened(browser, page)
    feature = {"name": "prefers-color-scheme", "value": scheme}
    browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": [feature]})
    browser.execute_script("document.querySelectorAll('details').forEach((one) => one.open = true)")
    browser.execute_script((Path(axe_core_python.__file__).parent / "axe.min.js").read_text())
    found = browser.execute_async_script(
        "axe.run({exclude: [['figure svg']]}).then(arguments[0])"  # drawn; its words are in tables
    )
    assert [(one["id"], one["nodes"][0]["html"]) for one in found["violations"]] == []
    assert len(found["passes"]) > 20


def test_without_scripts_all_of_it_can_be_read(browser: Any, page: Path, tmp_path: Path) -> None:
    text = page.read_text()
    bare = tmp_path / "bare.html"
    bare.write_text(text[: text.rindex("<script>")])
    opened(browser, bare)
    line = browser.find_element("id", "alarms-alarms.c-6")
    line.find_element("css selector", "summary").click()
    assert "instruction" in line.text and not browser.find_element("id", "filter").is_displayed()


def test_the_page_measures_nothing_and_says_what_is_not_there(tmp_path: Path) -> None:
    bench = write_bench(tmp_path / "new", BENCH, alarms=SOURCE)
    file = tmp_path / "page.html"
    assert hot_anvil("report", bench, "--out", file).returncode == 0
    text = file.read_text()
    assert "no choice: " in text and "no verdicts: " in text and 'id="alarms-alarms.c-6"' in text
    again = hot_anvil("history", bench)
    assert again.returncode == 2 and "nothing was measured" in again.stderr
    assert hot_anvil("report", bench, "--fresh", "--out", file).returncode == 0
    fresh = file.read_text()
    assert "no choice: " not in fresh and "of the time of" in fresh
    heads = document("history", bench)["answers"]
    assert [head["command"] for head in heads] == ["pick", "hotspots"]


def test_answers_about_other_code_are_marked(bench: Path, page: Path, tmp_path: Path) -> None:
    copy = tmp_path / "edited"
    shutil.copytree(bench, copy)
    source = copy / "alarms.c"
    source.write_text(source.read_text().replace("> alarm", ">= alarm"))
    file = tmp_path / "page.html"
    assert hot_anvil("report", copy, "--out", file).returncode == 0
    assert "compiled anew since" in file.read_text() and "compiled anew since" not in (
        page.read_text()
    )
    assert "of the time of" not in file.read_text().split("How sure")[0].split("By source")[1]


def test_names_and_comments_harm_neither_terminal_nor_markdown(bench: Path, page: Path) -> None:
    for command, *words in (
        ("listing", "gcc:fast"), ("ledger",), ("show",), ("diff", "gcc:plain", "gcc:fast", "--all"),
    ):  # fmt: skip
        for form in ("text", "markdown"):
            text = hot_anvil(command, bench, *words, "--format", form).stdout
            assert "\x1b" not in text and "\u202e" not in text, (command, form)
        inside = False
        for line in text.splitlines():
            if line.startswith("```"):
                inside = not inside
            assert inside or "<script>" not in line.replace("\\<", "")
        assert not inside
