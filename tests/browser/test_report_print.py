"""The report on paper: its size, its pages and their numbers."""

import base64
import io

from pages import Page
from pypdf import PdfReader

from rooms import two_seats_taken


def test_the_report_is_printed_on_its_paper_with_page_numbers(driver, address):
    place, services = address
    job = two_seats_taken(services, layout="2.0", subs=0)
    # ISO 216 and ANSI: A4 is 210 by 297 mm, Letter 8.5 by 11 inches; points of 1/72 inch.
    for paper, (width, height) in (("A4", (595.3, 841.9)), ("Letter", (612, 792))):
        page = Page(driver, place)
        driver.get(f"{place}/jobs/{job}/report")
        page.fill("Paper", paper)
        page.click(".on-screen form button")
        page.wait(lambda paper=paper: f"report-{paper.lower()}.css" in driver.page_source)
        made = driver.execute_cdp_cmd("Page.printToPDF", {"preferCSSPageSize": True, "printBackground": True})
        pdf = PdfReader(io.BytesIO(base64.b64decode(made["data"])))
        assert 2 <= len(pdf.pages) <= 6
        assert abs(float(pdf.pages[0].mediabox.width) - width) < 2
        assert abs(float(pdf.pages[0].mediabox.height) - height) < 2
        texts = [item.extract_text() for item in pdf.pages]
        assert f"1 / {len(pdf.pages)}" in texts[0]
        assert f"{len(pdf.pages)} / {len(pdf.pages)}" in texts[-1]
        assert "Apply to the report" not in "".join(texts)
        assert len(base64.b64decode(made["data"])) < 3_000_000
