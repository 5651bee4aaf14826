"""What the browser tests count as a request of the page under test."""

from __future__ import annotations

import pytest
from conftest import requested

PAGE = "http://127.0.0.1:8000/cases"


@pytest.mark.parametrize(
    ("document", "url", "counts"),
    [
        ("chrome-untrusted://new-tab-page/one.html", "chrome-untrusted://new-tab-page/one.js", False),
        ("chrome://new-tab-page/", "https://elsewhere.example/doodle", False),
        (PAGE, "https://elsewhere.example/spy.js", True),
        ("https://elsewhere.example/", "https://elsewhere.example/", True),
    ],
)
def test_only_requests_of_a_page_count(document, url, counts):
    """The new-tab page of a fresh browser asks for things by itself; a page that leads or asks elsewhere is noticed."""
    assert requested([{"documentURL": document, "request": {"url": url}}]) == [url] * counts
