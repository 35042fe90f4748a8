"""The handbook: its pages' commands run as printed, its site is whole and asks no other host."""

import importlib.util
import re
import subprocess
import sys
from html.parser import HTMLParser
from urllib.parse import unquote, urlparse

import pytest

from conftest import SAMPLES

ROOT = SAMPLES.parents[2]
spec = importlib.util.spec_from_file_location("run_pages", ROOT / "tools" / "run_pages.py")
run_pages = importlib.util.module_from_spec(spec)
spec.loader.exec_module(run_pages)
PAGES = {path.relative_to(run_pages.DOCS).as_posix(): path for path in run_pages.PAGES}


def words(page):
    """A page without its numbers, which another version of NumPy rounds otherwise; where a printer
    takes part, whose reports come when they come, its verdicts.
    """
    if "stand-in" in page:
        return re.findall(r"^(?:CHANGE|KEEP|RETEST|readback agrees|found|applied)\b", page, re.M)
    return re.sub(r"[\d.,]*\d", "#", page).split()


@pytest.mark.slow
@pytest.mark.parametrize("name", PAGES)
def test_every_command_of_a_page_says_what_is_printed(name):
    page = PAGES[name].read_text("utf-8")
    assert run_pages.commands(page)
    assert words(run_pages.filled(page)) == words(page)


def test_what_is_not_run_is_marked_as_at_a_real_printer():
    for name, path in PAGES.items():
        page = path.read_text("utf-8")
        blocks = re.findall(r"(.*)\n```(\w*)\n", page)
        for before, kind in blocks:
            if kind:  # the end of a block has none
                assert kind == "console", name
                assert before in ("", "<!-- at a real printer -->") or before.startswith("#"), name


class Links(HTMLParser):
    """What a page asks a browser to fetch, what it links to, and its anchors."""

    def __init__(self, text):
        super().__init__()
        self.fetched, self.linked, self.anchors = [], [], set()
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        given = dict(attrs)
        self.anchors |= {given["id"]} if given.get("id") else set()
        if tag == "a":
            self.linked.append(given.get("href") or "")
        elif tag != "meta" and given.get("rel") not in ("canonical", "next", "prev"):
            self.fetched += [given[n] for n in ("src", "href") if given.get(n)]


@pytest.fixture(scope="module")
def site(tmp_path_factory):
    place = tmp_path_factory.mktemp("site")
    done = subprocess.run(
        [sys.executable, "-m", "sphinx", "-W", "--keep-going", "-n", "-q", "docs", str(place)],
        cwd=ROOT,
        text=True,
        capture_output=True,
    )
    assert done.returncode == 0, done.stderr
    return place


@pytest.mark.slow
def test_the_site_is_whole_and_asks_no_other_host(site):
    pages = {path: Links(path.read_text("utf-8")) for path in site.rglob("*.html")}
    assert len(pages) > 20
    for path, page in pages.items():
        for link in page.fetched:
            assert not urlparse(link).netloc and not urlparse(link).scheme, (path.name, link)
        for link in page.linked:
            parts = urlparse(link)
            if parts.scheme:
                continue
            target = (path.parent / unquote(parts.path)).resolve() if parts.path else path
            assert target.exists(), (path.name, link)
            if parts.fragment and target.suffix == ".html" and parts.fragment != "":
                assert unquote(parts.fragment) in pages[target].anchors | {"top"}, (path.name, link)
    for style in site.rglob("*.css"):
        assert not re.search(r"url\(\s*['\"]?(https?:)?//|@import", style.read_text("utf-8"))
    assert (site / "searchindex.js").stat().st_size > 10_000


def test_every_page_is_one_of_four_kinds():
    """Each page of docs/ stands once in the table of contents."""
    listed = re.findall(r"^([\w/-]+)$", (run_pages.DOCS / "index.md").read_text(), re.M)
    pages = {
        p.relative_to(run_pages.DOCS).with_suffix("").as_posix()
        for p in run_pages.DOCS.rglob("*.md")
    }
    assert sorted(listed) == sorted(pages - {"index"})
