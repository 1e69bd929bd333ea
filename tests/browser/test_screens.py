"""Every screen in both themes: axe-core finds nothing serious; small windows work for looking and listening."""

import re
import time

from playwright.sync_api import expect

from tests.browser.support import BrowserTest
from tests.support import ROOT, tone, wav_file

FREE = r"[\d.]+ .B free"
"""Room on the disk changes by itself."""
SIZES = (390, 844), (1920, 1080), (1280, 800)
AXE = ROOT / "web/node_modules/axe-core/axe.min.js"


class Screens(BrowserTest):
    def faults_of_axe(self, colours: bool = True) -> list[str]:
        """Serious and critical faults of the page as it stands (axe-core's own rules, WCAG 2.2 AA); with or without those of colours."""
        if not self.page.evaluate("typeof axe !== 'undefined'"):
            self.page.add_script_tag(path=AXE)
        rules = {} if colours else {"color-contrast": {"enabled": False}}
        found = self.page.evaluate("rules => axe.run(document, {resultTypes: ['violations'], rules})", rules)
        return [
            f"{v['id']}: {n['target']} {n.get('failureSummary', '')}"
            for v in found["violations"]
            if v["impact"] in ("serious", "critical")
            for n in v["nodes"]
        ]

    def test_no_serious_fault_on_any_screen_in_both_themes(self):
        page = self.page
        game = self.register()
        self.open(f"#/{game}/locate")
        self.find("0251")
        self.row("0251").click()
        page.get_by_role("button", name="Swap this stream").click()
        place = wav_file(self.root / "tone.wav", tone(3, 48000, 480), 48000)
        page.get_by_label("Replacement file").set_input_files(place)
        expect(page.get_by_role("button", name="Fit all that can be")).to_be_visible()
        swap = page.evaluate("location.hash").split("/")[-1]

        def screens():
            yield "start", lambda: self.open("#/start"), page.get_by_role("heading", name="Which game?")
            yield "settings", lambda: self.open("#/settings"), page.get_by_text("set at the start")
            yield "survey", lambda: self.open(f"#/{game}/survey"), page.get_by_text("100.0 % explained")
            yield "keys", self._keys(game), page.get_by_role("heading", name="Key ring")
            yield "take out", self._take_out(game), page.get_by_text("the disk has")
            yield "changes", lambda: self.open(f"#/{game}/changes"), page.get_by_role("heading", name="What changed")
            yield "bench", self._bench(game), page.get_by_text("✓ reads this file")
            yield "locate", self._locate(game), page.get_by_label("The chosen stream")
            yield "sounds out", self._sounds_out(game), page.get_by_text("Levels are left as they are")
            yield "stream", self._stream(game), page.get_by_text("LUFS").first
            yield "unknown", self._unknown(game), page.get_by_label("Readings")
            yield "what is in here?", self._inside(game), page.get_by_role("grid", name="Sounds found")
            yield (
                "begin a layout",
                self._begin(game),
                page.get_by_role("region", name="What known layouts say").get_by_role("listitem"),
            )
            yield "swap", lambda: self.open(f"#/{game}/swap/{swap}"), page.get_by_role("table", name="Fit report")
            yield "lines", self._lines(game), page.get_by_label("Text, id, bank, notes")
            yield "texts", self._texts(game), page.get_by_text("by the layout")
            yield "record", self._record(game), page.get_by_role("dialog", name="Record")
            yield "files", self._files(game), page.get_by_text("2 files of 2 matched")
            yield "mods", self._mods(game), page.get_by_text("wanted by several").or_(page.get_by_text("No two mods"))
            yield "new build", self._new_build(game), page.get_by_role("group", name="Verdicts")
            yield "package", self._package(game), page.get_by_role("dialog", name="Take in a mod")
            rules = f"#/{game}/bench/ferry.ini?layout=saltglass-ferry"
            yield "load rules", lambda: self.open(rules), page.get_by_role("table", name="What the game reads")
            yield "install", self._install(game), page.get_by_text("Nothing is installed")
            yield "rebuild", lambda: self.open(f"#/{game}/rebuild"), page.get_by_role("heading", name="Rebuild")

        for theme in ("dark", "bright"):
            for name, go, there in screens():
                go()
                expect(there.first).to_be_visible()
                for width, height in SIZES if theme == "dark" else SIZES[-1:]:
                    page.set_viewport_size({"width": width, "height": height})
                    where = f"{name}, {theme}, {width} wide"
                    colours = (width, height) == SIZES[-1]  # they do not depend on the size
                    if width < 1920:  # what stands there is what stands in 1280
                        self.assertEqual(self.faults_of_axe(colours), [], where)
                    self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), width, where)
            if theme == "dark":
                page.get_by_role("button", name="Fit all that can be").or_(
                    page.get_by_role("link", name="Go to Swap")
                ).first.click()
                page.get_by_role("button", name="Fit all that can be").click()
                expect(page.get_by_role("link", name="Go to Rebuild")).to_be_visible()
                page.get_by_role("link", name="Go to Rebuild").click()
                page.get_by_role("button", name="Rebuild and prove").click()
                expect(page.get_by_role("region", name="Proof")).to_contain_text("✓ Proved", timeout=30_000)
            page.keyboard.press("Control+k")
            expect(page.get_by_role("dialog").get_by_role("combobox")).to_be_focused()
            self.assertEqual(self.faults_of_axe(), [], f"find or do, {theme}")
            page.keyboard.press("Escape")
            page.get_by_role("button", name="Jobs").click()
            self.assertEqual(self.faults_of_axe(), [], f"jobs, {theme}")
            page.get_by_role("button", name="Jobs").click()
            page.get_by_role("button", name="Switch to the").click()

    def _hear(self, row: str) -> None:
        """Go to a row and stop its sound: a browser without a screen now and then draws nothing any more, for good, when its
        window is pulled while it plays."""
        self.row(row).click()
        self.until(lambda: self.strip("playing") == "true", 20, "sound")
        self.page.keyboard.press("Space")
        self.until(lambda: self.strip("playing") != "true", 20, "silence")

    def _keys(self, game: int):
        def go():
            self.open(f"#/{game}/survey")
            self.page.get_by_role("gridcell", name="data/hold.chart", exact=True).click()

        return go

    def _mods(self, game: int):
        def go():
            page = self.page
            self.open(f"#/{game}/mods")
            expect(page.get_by_text("worked on")).to_be_visible()
            if not page.get_by_role("button", name="Work on it").count():
                page.get_by_role("button", name="New mod").click()
                page.get_by_role("button", name="Work on it: First mod").click()
                expect(page.get_by_role("button", name="Work on it: Mod 2")).to_be_visible()
            page.get_by_role("button", name="First mod", exact=True).click()

        return go

    def _new_build(self, game: int):
        def go():
            self.page.keyboard.press("Escape")
            self.open(f"#/{game}/mods/{self.mod_of(game)}")
            self.page.get_by_role("button", name="Judge").click()

        return go

    def _package(self, game: int):
        def go():
            self.open(f"#/{game}/mods")
            self.page.get_by_role("button", name="Take in a mod …").click()

        return go

    def _install(self, game: int):
        def go():
            self.page.keyboard.press("Escape")  # the dialog before
            self.open(f"#/{game}/install")

        return go

    def _take_out(self, game: int):
        def go():
            self.open(f"#/{game}/survey")
            self.page.get_by_role("button", name="Take all out").click()

        return go

    def _bench(self, game: int):
        def go():
            self.open(f"#/{game}/bench/data%2Fsea.crate")

        return go

    def _locate(self, game: int):
        def go():
            self.open(f"#/{game}/locate")
            self.find("")  # a filter is kept from screen to screen
            self._hear("horn")

        return go

    def _sounds_out(self, game: int):
        def go():
            self._locate(game)()
            self.page.get_by_role("button", name="Take out …").click()

        return go

    def _stream(self, game: int):
        def go():
            self.page.keyboard.press("Escape")  # the dialog before
            self._locate(game)()
            self.page.get_by_role("button", name="Look closer").click()

        return go

    def _lines(self, game: int):
        def go():
            self.page.keyboard.press("Escape")
            self.open(f"#/{game}/lines?q=crew_en")
            self._hear("1001")

        return go

    def _texts(self, game: int):
        def go():
            self._lines(game)()
            self.page.get_by_role("button", name="Texts …").click()
            self.page.get_by_role("button", name="One of the game …").click()
            self.page.get_by_role("button", name="text/spoken.page").click()

        return go

    def _record(self, game: int):
        def go():
            self._lines(game)()
            self.page.keyboard.press("r")

        return go

    def _files(self, game: int):
        def go():
            self._lines(game)()
            self.page.get_by_role("button", name="Files for these lines …").click()
            files = [wav_file(self.root / f"{n}.wav", tone(1, 24_000, 300), 24_000) for n in (1001, 1002)]
            self.page.get_by_label("Files for the lines").set_input_files(files)

        return go

    def _inside(self, game: int):
        def go():
            self.open(f"#/{game}/inside/data%2Fdeck.zip")
            self.page.get_by_role("button", name="Look through it").or_(
                self.page.get_by_role("button", name="Look again")
            ).click()

        return go

    def _begin(self, game: int):
        def go():
            self.open(f"#/{game}/bench/data%2Fdrift.bin")
            self.page.get_by_role("button", name="New …").click()

        return go

    def _unknown(self, game: int):
        def go():
            self.open(f"#/{game}/unknown/data%2Fdrift.bin")

        return go

    def test_a_phone_can_look_and_listen(self):
        game = self.register()
        page = self.page
        page.set_viewport_size({"width": 390, "height": 800})
        self.open(f"#/{game}/locate")
        self.row("horn").click()
        self.until(lambda: self.strip("playing") == "true", 10, "sound")

    def test_every_dialog_and_menu_by_keys_alone(self):
        """Each is opened by Enter on its button, holds the focus while it is a dialog, and gives it back at Escape."""
        page, game = self.page, self.register()

        def opened(button, dialog: bool) -> None:
            expect(button).to_be_enabled()
            button.focus()
            page.keyboard.press("Enter")
            inside = "document.activeElement.closest('dialog') !== null"
            shown = page.get_by_role("dialog").first if dialog else page.locator("[aria-haspopup][aria-expanded=true]")
            expect(shown).to_be_visible()
            for _ in range(12 if dialog else 1):
                page.keyboard.press("Tab")
                at = page.evaluate(f"document.activeElement === document.body || {inside}")
                self.assertTrue(at or not dialog, button)
            page.keyboard.press("Escape")
            expect(shown).to_have_count(0)
            expect(button).to_be_focused()

        def by(name: str, exact: bool = True):
            return page.get_by_role("button", name=name, exact=exact)

        self.open(f"#/{game}/locate")
        self.find("10")
        for name in ("Titles …", "Take out …"):
            opened(by(name), True)
        for name in ("Searches", "Columns", "state ▾", "codec ▾", "rate ▾", "channels ▾", "size ▾"):
            opened(by(name), False)
        grid = page.get_by_role("grid", name="Streams")
        grid.focus()
        for key, name in (("?", "Keys"), ("Control+k", "Find or do")):
            page.keyboard.press(key)
            expect(page.get_by_role("dialog", name=name)).to_be_visible()
            page.keyboard.press("Escape")
            expect(page.get_by_role("dialog")).to_have_count(0)
            expect(grid).to_be_focused()
        page.keyboard.press("Control+a")
        opened(by("Name …"), True)
        by("Let go").press("Enter")
        expect(grid).to_be_focused()
        self.open(f"#/{game}/survey")
        for name in ("Take all out", "Take out all …"):
            opened(by(name), True)
        for name in ("what it is ▾", "state ▾", "Columns"):
            opened(by(name), False)
        menu = page.locator("header button[aria-haspopup]", has_text="Saltglass Ferry")
        menu.press("Enter")
        by("Forget Saltglass Ferry", False).press("Enter")
        expect(by("Keep it")).to_be_focused()
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_have_count(0)
        expect(menu).to_be_focused()

    def test_a_swap_without_a_file_in_two_windows(self):
        game, page = self.register(), self.page
        self.open(f"#/{game}/locate")
        self.find("horn")
        self.row("horn").click()
        page.get_by_role("grid").press("Enter")
        page.get_by_role("button", name="Mute it").press("Enter")
        removed = page.get_by_role("button", name="Remove swap")
        expect(removed).to_be_visible()
        self.assertEqual(page.evaluate("document.activeElement.tagName"), "SECTION")
        other = self.context.new_page()
        other.goto(page.url)
        other.get_by_role("button", name="Remove swap").press("Enter")
        expect(page.get_by_role("heading", name="This swap is gone")).to_be_visible()
        undo = other.get_by_role("status").get_by_role("button", name="Undo")
        undo.press("Enter")
        expect(removed).to_be_visible()
        expect(undo).to_have_count(0)
        self.assertEqual(other.evaluate("document.activeElement.tagName"), "MAIN")
        removed.click()
        expect(other.get_by_role("heading", name="This swap is gone")).to_be_visible()

    def test_reloaded_in_the_middle_each_screen_comes_back_as_it_was(self):
        game, page = self.register(), self.page
        for name in ("horn", "0260"):
            self.open(f"#/{game}/locate")
            self.find(name)
            self.row(name).click()
            page.get_by_role("grid").press("Enter")
            page.get_by_role("button", name="Begin with the original").click()
            expect(page.get_by_role("link", name="Go to Rebuild")).to_be_visible()

        def survey() -> None:
            page.get_by_role("row").filter(has_text="sea.crate").first.click()
            page.get_by_label("Filter entries by path").fill("bell")
            page.get_by_role("grid", name="Entries").get_by_role("row").nth(2).click()

        def swap() -> None:
            page.get_by_role("link", name="horn").click()
            page.get_by_label("level").select_option("number")
            expect(page.get_by_label("loudness, LUFS")).to_have_value("-23")
            page.get_by_label("level").select_option("")
            page.get_by_label("gain, dB").fill("-3")
            page.keyboard.press("Tab")

        def stream() -> None:
            self.row("horn").click()
            page.get_by_role("grid").press("e")

        def rebuild() -> None:
            page.get_by_role("button", name="Rebuild and prove").click()
            expect(page.get_by_role("region", name="Proof")).to_contain_text("✓ Proved", timeout=60_000)

        for place, work, shown in (
            (f"#/{game}/survey?tree=true&opened=data", survey, "sea.crate"),
            (f"#/{game}/swap", swap, "horn"),
            (f"#/{game}/locate", stream, "LUFS"),
            (f"#/{game}/rebuild", rebuild, "Proved"),
            ("#/settings", lambda: None, "set at the start"),
        ):
            self.open(place)
            work()
            main = page.locator("main")
            expect(main).to_contain_text(shown)
            self.until(lambda: not self.api("/jobs?open=true"), 60, "the jobs")
            expect(main).not_to_contain_text("preparing")  # the page hears of a job's end a moment later
            page.wait_for_load_state("networkidle")
            before, address = self._settled(main), page.url
            page.reload()
            deadline = time.monotonic() + 45
            while (now := re.split(FREE, main.inner_text())) != before and time.monotonic() < deadline:
                time.sleep(0.2)
            self.assertEqual(now, before, place)
            self.assertEqual(page.url, address)

    def _settled(self, main) -> list[str]:
        """The text of a screen once it has stayed the same for a while: a page hears of what has ended a moment later."""
        text, since = re.split(FREE, main.inner_text()), time.monotonic()
        while time.monotonic() - since < 3:
            time.sleep(0.2)
            if (now := re.split(FREE, main.inner_text())) != text:
                text, since = now, time.monotonic()
        return text

    def test_menus_close_and_give_the_focus_back(self):
        game, page = self.register(), self.page
        self.open(f"#/{game}/locate")
        for opener, inside in (
            (page.get_by_role("button", name="Jobs", exact=True), page.get_by_role("region", name="Jobs")),
            (
                page.locator("header button[aria-haspopup]", has_text="Saltglass Ferry"),
                page.get_by_role("link", name="Add a game"),
            ),
        ):
            opener.click()
            expect(inside).to_be_visible()
            page.keyboard.press("Escape")
            expect(inside).to_be_hidden()
            expect(opener).to_be_focused()
            page.keyboard.press("Enter")
            expect(inside).to_be_visible()
            page.get_by_label("Name, id, bank, path").click()
            expect(inside).to_be_hidden()
            opener.click()
            page.evaluate(f"location.hash = '#/{game}/swap'")
            expect(page.get_by_role("heading").first).to_be_attached()
            expect(inside).to_be_hidden()
            self.open(f"#/{game}/locate")
