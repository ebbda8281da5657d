"""The line check in a real browser: faults are switched on, found, and the wiring is corrected."""

import pytest
from pages import Page
from selenium.webdriver.common.keys import Keys

from dolce.core.rig import SubMatch
from dolce.errors import Conflict
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import barn


@pytest.fixture
def rig(driver, address):
    """The barn on its Rig page, as fast as it computes."""
    place, services = address
    job_id = services.jobs.create(JobDetails(name="Barn"), plan=barn()).id
    services.rigging.set_rig(job_id, pace="fast")
    page = Page(driver, place).open(f"/jobs/{job_id}/rig")
    yield page, services, job_id
    assert page.faults_in_console(expected=("422",)) == []


def switch_on(page, words, *channels):
    page.press("Practise")
    page.fill("Fault", words)
    for label, channel in zip(("Channel", "Other channel, for swapped outputs"), channels, strict=False):
        page.fill(label, channel)
    page.press("Switch on")
    assert words in page.text(".fault-list")


def check(page, button="Check all lines"):
    page.press("Line check")
    page.press_at_once(button)
    page.wait(lambda: not page.all("[data-busy]") and page.all(".line-word:not(.not-checked)"), seconds=60)
    page.ready()


def word(page, channel):
    return page.text(f"[data-line={channel}] .line-word")


def test_faults_are_found_line_by_line(rig):
    page, _, _ = rig
    for words, channels in (
        ("Polarity inverted", ("C",)),
        ("No sound", ("Lrs",)),
        ("Outputs swapped", ("Ls", "Rs")),
        ("A crossover left on: no bass below 200 Hz", ("Rtf",)),
        ("An equaliser left on: +8 dB at 2 kHz", ("R",)),
        ("8 dB too loud", ("Sub2",)),
    ):
        switch_on(page, words, *channels)
    check(page)
    text = page.text(".lines")
    for message in ("Polarity inverted", "No sound", "No bass", "is an equaliser left on", "dB louder than the others"):
        assert message in text
    assert (
        word(page, "C"),
        word(page, "Lrs"),
        word(page, "Rtf"),
        word(page, "R"),
        word(page, "Sub2"),
        word(page, "L"),
    ) == ("wrong", "wrong", "look", "look", "look", "right")


def test_swapped_outputs_are_answered_on_the_plan_and_corrected(rig):
    page, services, job_id = rig
    switch_on(page, "Outputs swapped", "Ls", "Rs")
    check(page)
    for channel in ("L", "R", "C"):
        assert "Which one sounded?" in page.text("main")
        page.press(f"Yes, {channel}")
    # The ring shows what a person in the room would hear.
    ringed = page.find(".line-plan .ring").find_element("xpath", "..")
    assert ringed.get_attribute("data-answer").endswith("/heard/Rs")
    ringed.send_keys(Keys.ENTER)
    page.wait(lambda: "sounds from Rs, not Ls" in page.text(".lines"))
    page.ready()
    page.press("Exchange the outputs of Ls and Rs")
    plan = services.jobs.get(job_id).plan
    assert (plan.speaker("Ls").output, plan.speaker("Rs").output) == (5, 4)
    for channel in ("Ls", "Rs"):
        page.press_at_once(f"Run {channel}")
        page.wait(lambda c=channel: not page.all("[data-busy]") and word(page, c) == "right", seconds=30)
        page.ready()
        page.press(f"Yes, {channel}")
    assert "sounds from" not in page.text(".lines")


@pytest.mark.parametrize(
    ("words", "message"),
    [
        ("Mains hum in the microphone line", "Mains hum"),
        ("Microphone gain 50 dB too high", "input clips"),
        ("Another microphone than its curve belongs to", "on every line"),
        ("The interface feeds the microphone back to the speakers", "feedback"),
    ],
)
def test_faults_of_the_whole_rig_are_found_and_go_when_switched_off(rig, words, message):
    page, _, _ = rig
    switch_on(page, words)
    check(page)
    assert message in page.text(".lines")
    page.press("Practise")
    page.press(f"Switch off {words}")
    assert "None." in page.text("main")
    check(page, "Check all again")
    assert message not in page.text(".lines")


def test_a_check_is_stopped_by_escape_and_goes_on(rig):
    page, services, job_id = rig
    services.rigging.set_rig(job_id, pace="real time")
    page.press("Line check")
    page.press_at_once("Check all lines")
    page.wait(lambda: page.text("[data-line=R] td.sounding") == "sounds", seconds=30)
    assert page.text("[data-line=L] td.muted") == "muted"
    page.type_into("body", Keys.ESCAPE)
    page.wait(lambda: "Stopped by hand" in page.text("main"), seconds=20)
    page.ready()
    assert word(page, "L") == "right"
    assert word(page, "C") == "not checked"


def test_noise_is_rated_once_a_calibrator_was_heard(rig):
    page, services, job_id = rig
    page.press("Noise and pressure")
    page.press_at_once("Listen to the room")
    page.wait(lambda: page.all(".noise-bar") and not page.all("[data-busy]"), seconds=30)
    page.ready()
    assert len(page.all(".noise-bar")) == 27  # thirds of the nine octaves from 31.5 Hz to 8 kHz
    assert "sound pressure must be known" in page.text("main")
    page.press_at_once("Calibrator of 94 dB")
    page.wait(lambda: page.text(".key-line strong").startswith("NR"), seconds=30)
    page.ready()
    assert "dB SPL" in page.text("#top-state")
    page.press_at_once("Play noise on L")
    page.wait(lambda: "the meter reads" in page.text("main"), seconds=30)
    page.ready()
    page.fill("Meter reads", "200")
    page.press("Use reading")
    assert "out of range" in page.text("main")
    page.fill("Meter reads", "76,5")
    page.press("Use reading")
    known = services.pressure.view(job_id)
    full_scale = services.jobs.get(job_id).rig.levels.full_scale_spl_db
    assert full_scale == pytest.approx(76.5 - known.reference_dbfs, abs=0.01)
    page.press("Remove the calibration")
    assert "dB relative" in page.text("#top-state")


def start(page, sheet, button="Start"):
    page.press(sheet)
    page.press_at_once(button)
    page.wait(lambda: page.all("[data-live]"), seconds=20)


def figure(page, css):
    text = page.text(css).replace("−", "-")
    return float(text) if text.lstrip("-").replace(".", "").isdigit() else None


def settled(page, css: str) -> float:
    """A live figure once six new ones, one after the other, agree within a decibel: a slow meter has come to rest."""
    seen = [None]

    def rests() -> bool:
        now = figure(page, css)
        if now != seen[-1]:
            seen.append(now)
        last = seen[-6:]
        return len(last) == 6 and None not in last and max(last) - min(last) < 1.0

    page.wait(rests, seconds=20, why=f"{css} does not settle")
    return seen[-1]


def test_meter_is_live_follows_its_source_and_falls_silent_on_escape(rig):
    page, services, job_id = rig
    services.rigging.set_rig(job_id, full_scale_spl_db=120.0)
    page.press("Meter and sources")
    page.fill("Source", "Pink noise")
    page.fill("on", "C")
    page.fill("Level, RMS", "-10")
    page.press("Use source")
    assert "above the ceiling of -6 dBFS" in page.text("main")
    page.fill("Level, RMS", "-40")
    page.press("Use source")
    assert "−40.0 dBFS RMS (AES17" in page.text("[data-stated]")
    start(page, "Meter and sources")
    before = settled(page, "[data-figure]")
    assert before > 50
    page.press_at_once("−3 dB")
    page.wait(lambda: (figure(page, "[data-figure]") or 99) < before - 2, seconds=20)
    page.fill("Weighting", "A-weighted")
    page.wait(lambda: "A, slow" in page.text(".meter-figure"), seconds=10)
    # Another tab is told, and the one that plays goes on.
    other = services.sound.running()
    with pytest.raises(Conflict, match="another tab"):
        services.lines.run(job_id)
    assert services.sound.running().id == other.id
    page.type_into("body", Keys.ESCAPE)
    page.wait(lambda: services.sound.running() is None and not page.all("[data-live]"), seconds=10)


def test_spectrum_is_held_and_compared_with_a_kept_moving_average(rig):
    page, services, job_id = rig
    page.press("Spectrum")
    page.fill("Channel of the moving average", "L")
    page.press_at_once("Measure it")
    page.wait(
        lambda: services.taking.board(job_id).takes.get(("L", 1)) is not None and not page.all("[data-live]"),
        seconds=30,
    )
    page.ready()
    take = services.live.moving_takes(job_id)[0]
    page.fill("on", "L")
    page.press("Use source")
    services.live.change(job_id, "spectrum", compared=take.id)
    start(page, "Spectrum")
    page.wait(lambda: page.all(".band-curve.kept") and "Against the kept" in page.text("[data-compared]"), seconds=20)
    page.press_at_once("Hold this curve")
    page.wait(lambda: page.all(".band-curve.held"), seconds=10)
    page.press_at_once("Stop")
    page.wait(lambda: "Stopped; this is the last average." in page.text("main"), seconds=10)
    page.ready()
    page.press("Release the held curve")
    assert not page.all(".band-curve.held")


def test_level_comes_up_by_itself(rig):
    page, services, job_id = rig
    page.press("Level")
    page.press_at_once("Automatic level")
    page.wait(lambda: page.text("[data-ramp]").startswith("Good: 4"), seconds=30)
    page.ready()
    assert f"{services.jobs.get(job_id).rig.levels.sweep_level_dbfs:g} dBFS" in page.text("main").replace("−", "-")


def test_subs_are_read_turned_and_read_again_until_they_agree(rig):
    page, services, job_id = rig
    services.sub_matching.set_match(job_id, SubMatch(placing="same place", level_dbfs=-40))
    page.press("Subs together")
    read(page, services, job_id, "Sub1")
    read(page, services, job_id, "Sub2")
    read(page, services, job_id, "Sub3")
    assert "down" in page.text("[data-sub=Sub1]")
    assert not page.all("[data-agree]")
    for sub in ("Sub1", "Sub3"):
        read(page, services, job_id, sub, turn=True)
    page.wait(lambda: "All subs agree within 0.1 dB" in page.text("[data-agree]"), seconds=10)
    page.press_at_once("Stop")
    page.wait(lambda: not page.all("[data-live]"), seconds=10)
    page.ready()


# In one call: the part that is swapped every 300 ms may be another one by the time of a second call.
PRESS_KEEP = """const found = [...document.querySelectorAll('#live button')].find(
  (b) => b.textContent === 'Keep the reading' && !b.disabled); found?.click(); return Boolean(found)"""


def read(page, services, job_id, sub, *, turn=False):
    """Play a sub, turn it by what is asked, wait until the reading has settled, keep it."""
    if services.live.view(job_id, "subs").options.channel != sub or not page.all("[data-live]"):
        page.press_at_once(f"Play {sub}")
        page.wait(lambda: page.text("#live h2") == f"{sub} now", seconds=20)
    if turn:
        page.press_at_once("Apply the change asked")
        page.ready()
    before = services.live.view(job_id, "subs").kept.get(sub)
    page.wait(lambda: services.live.view(job_id, "subs").ready, seconds=20)
    page.wait(lambda: page.driver.execute_script(PRESS_KEEP), seconds=10)
    page.wait(lambda: services.live.view(job_id, "subs").kept.get(sub) not in (None, before), seconds=10)
    page.ready()
