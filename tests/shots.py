"""The pictures of the README, from the demo house with the clock standing still."""

import sys
from datetime import UTC, datetime
from pathlib import Path

from selenium.webdriver.common.keys import Keys

from finesieve.demo.load import DEMO_SLUG, load_demo
from tests.support import site
from tests.support.browser import Page
from tests.support.database import store

PICTURES = Path(__file__).parents[1] / "docs" / "screenshots"
NOON = datetime(2026, 11, 26, 12, 0, tzinfo=UTC)


def picture(page: Page, name: str) -> None:
    """Keep what the window shows, once its fonts are there."""
    page.driver.execute_async_script(
        "const done = arguments[0]; document.fonts.ready.then(() => setTimeout(done, 250))"
    )
    page.driver.save_screenshot(str(PICTURES / f"{name}.png"))
    print(name)


def main() -> int:
    """Take all pictures anew."""
    site.NOW = NOON  # type: ignore[misc]  # the application's clock stands here
    load_demo(store(), lambda: NOON, fast_hashes=True)
    page = Page()
    page.open("/sign-in")
    page.press("Enter the demo")
    page.until_text("h1", "Bench")
    base = page.driver.current_url
    picture(page, "bench")
    page.press("Define", ".stages a")
    page.press("Plot and growing", ".index a")
    picture(page, "define")
    page.open(f"{base}collect/1")
    page.press("Litres a day", ".question-label")
    page.until_text(".settings-form", "Shows when")
    picture(page, "collect")
    page.open(f"{base}collect/chat/1")
    page.press("Yes, let’s", ".trial-offers button")
    for words in ("quite long", "about 6", "4"):
        page.fill("#trial-reply", words + Keys.ENTER)
        page.until_text(".trial-talk", words)
    page.until_text(".trial", "24 m²")
    picture(page, "script")
    page.open(f"{base}follow-up/desk")
    page.one("td a").click()
    page.until_text("#sheet", "Take it")
    picture(page, "desk")
    page.open(f"{base}collect/4/asked")
    picture(page, "levels")
    page.open(f"{base}waiting")
    picture(page, "waiting")
    page.open(f"{base}follow-up/pages/1?who=ansel")
    page.until_text(".page-preview", "Good to see you")
    picture(page, "member-page")
    page.open(f"{base}compute")
    page.press("Water a week", ".index a")
    page.editor("#formula").send_keys(Keys.CONTROL, "a")
    page.editor("#formula").send_keys('if(watering = "by hand", litres_a_day * 7, round(plot_aera * 0.8 * 7))')
    page.until_text("#preview", "No field is called")
    page.press("use plot_area")
    page.until_text("#preview", "Gives a number")
    picture(page, "compute")
    page.open(f"{base}compute")
    page.press("Engagement score", ".index a")
    page.until_text("#effect", "Over everybody")
    page.driver.execute_script(
        "const f = document.getElementById('formula'); f.value = f.value.replace('* 10', '* 15');"
        "f.dispatchEvent(new Event('input', {bubbles: true}))"
    )
    page.until_text("#effect", "Segments that move")
    page.driver.execute_script("document.getElementById('effect').scrollIntoView()")
    picture(page, "effect")
    page.open(f"{base}sift/1")
    picture(page, "sift")
    page.open(f"{base}sift/overlap?s=1&s=4&s=3")
    page.until_text("#sheet", "Counted exactly")
    picture(page, "overlap")
    page.open(f"{base}sift/1/time?since=2026-10-27")
    page.until_text("#sheet", "Came in")
    picture(page, "over-time")
    page.open(f"{base}people?columns=zone,watering,plot_area,signed_up_on&sort=plot_area&down=yes")
    page.press("Columns", "summary")
    page.fill("[data-narrow]", "plot")
    picture(page, "people")
    page.open(base)
    page.press("Gwil Orrell", ".note.unk a")
    page.until_text(".margin", "Sign-up with a known email")
    picture(page, "profile")
    page.open(f"/shop/{DEMO_SLUG}")
    page.press("2.4 m", ".ware label")
    page.press("Add Raised-bed kit to the cart", "button")
    page.press("To the checkout", "button")
    page.until_text("h1", "Checkout")
    page.press("Our van", "#delivery label")
    page.until_text(".till-strip", "Our van")
    find = "return [...document.querySelectorAll('label')].find((one) => one.innerText.startsWith('Name on the plaque')).control"
    page.driver.execute_script(find).send_keys("Kestrel" + Keys.TAB)
    page.until_text(".till-strip", "Engraving of Kestrel")
    page.driver.execute_script("document.getElementById('delivery').scrollIntoView()")
    picture(page, "checkout")
    page.open(f"/join/{DEMO_SLUG}/join-the-co-op")
    page.fill("#q1", "wren@hedgerow.example")
    page.fill("#q2", "Wren")
    page.press("North", "#question-q5 label")
    page.resize(390, 844)
    page.press("By hand", "#question-q6 label")
    page.fill("#q7", "5000" + Keys.TAB)
    page.until_text("#q7-problem", "Between 1 and 500")
    page.driver.execute_script("document.getElementById('question-q5').scrollIntoView()")
    picture(page, "signup-phone")
    page.open(f"/chat/{DEMO_SLUG}/plan-my-first-bed")
    page.press("Yes, let’s", ".offers button")
    for words in ("quite long", "about 6", "4"):
        page.fill("#text", words + Keys.ENTER)
        page.until_text("#exchange", words)
    page.until_text("#exchange", "What is the soil like?")
    picture(page, "chat-phone")
    page.open(f"{base}people?where=level%20%3D%20%22steward%22")
    page.one("tbody td.strong a").click()
    page.press("Send a link to sign in", "button")
    page.open(f"{base}follow-up/outbox")
    page.open(str(page.one("a.letter-link[href*='/enter?']").get_attribute("href")))
    page.resize(390, 844)
    page.press("Sign in", "button")
    page.until_text("h1", "Your account")
    picture(page, "account-phone")
    return 0


if __name__ == "__main__":
    sys.exit(main())
