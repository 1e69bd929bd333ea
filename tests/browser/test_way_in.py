"""The way in: a pasted path, a folder elsewhere, games found by looking, the settings."""

import os

from playwright.sync_api import expect

from standin.formats import crate
from tests.browser.support import BrowserTest
from tests.support import copy_of_demo, small_bell


class WayIn(BrowserTest):
    """A game on another drive, and one that can be found in the library."""

    @classmethod
    def prepare_library(cls):
        cls.far = cls.root / "drive" / "My Game (1)"
        cls.near = cls.root / "library" / "shelf" / "Near"
        for place in (cls.far, cls.near):
            place.mkdir(parents=True)
            (place / "small.crate").write_bytes(crate("x", [("a.bell", small_bell(), False)]))
        copy_of_demo(cls.root / "home" / "run" / "demo" / "Saltglass Ferry")  # making it takes half a minute
        (cls.near / "near.exe").write_bytes(bytes(200_000))
        (cls.near / "large.bin").touch()
        os.truncate(cls.near / "large.bin", 200 << 20)

    def test_a_pasted_path_elsewhere_is_asked_about_once(self):
        page = self.page
        self.open("#/start")
        field = page.get_by_label("Folder of the game")
        expect(field).to_be_focused()
        field.fill("/nowhere/at all")
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("Correct the path; / is there.")
        field.fill(f'"{self.far}/small.crate"')
        page.keyboard.press("Enter")
        expect(page.get_by_role("region", name="May Zubret read this?")).to_contain_text(str(self.far))
        expect(page.get_by_role("alert")).to_have_count(0)
        page.get_by_role("button", name="Not this one").click()
        expect(field).to_be_focused()
        field.fill(str(self.far).replace(" ", "\\ "))
        page.keyboard.press("Enter")
        expect(page.get_by_role("button", name="Let Zubret read it")).to_be_focused()
        page.keyboard.press("Enter")
        expect(field).to_have_value(str(self.far))
        page.get_by_role("button", name="Survey this folder").click()
        expect(page.get_by_text("small.crate").first).to_be_visible()

        page.get_by_role("button", name="My Game (1)").click()
        page.get_by_role("link", name="Settings").click()
        row = page.get_by_role("listitem").filter(has_text=str(self.far))
        expect(row).to_contain_text("1 game")
        row.get_by_role("button", name="No longer").click()
        expect(page.get_by_role("alert")).to_contain_text("lies in this folder")
        other = page.get_by_label("Another folder that Zubret may read")
        other.fill(str(self.root / "home"))
        page.keyboard.press("Enter")
        expect(other).to_have_value("")
        row = page.get_by_role("listitem").filter(has_text=str(self.root / "home"))
        row.get_by_role("button", name="No longer").click()
        expect(row).to_have_count(0)
        page.get_by_role("button", name="Undo").click()
        expect(row).to_contain_text("no game yet")
        page.reload()
        expect(row).to_be_visible()

    def test_the_folder_that_is_meant_is_surveyed_even_while_it_is_still_looked_into(self):
        page, held = self.page, []
        self.open("#/start")
        folders = page.get_by_role("list", name="Folders")
        folders.get_by_role("button", name=str(self.root / "library")).click()
        survey = page.get_by_role("button", name="Survey this folder")
        expect(survey).to_be_enabled()
        page.route("**/api/folders*", lambda route: held.append(route))
        folders.get_by_role("button", name="shelf").click()
        expect(survey).to_be_disabled()
        page.get_by_label("Folder of the game").fill("/some/where")
        held[0].continue_()
        page.unroute("**/api/folders*")
        expect(folders.get_by_role("button", name="Near")).to_be_visible()
        expect(page.get_by_label("Folder of the game")).to_have_value("/some/where")
        expect(page.get_by_role("button", name="Open a folder first")).to_be_disabled()
        folders.get_by_role("button", name="Near").click()
        survey.click()
        expect(page.get_by_role("heading", name="Survey")).to_be_visible()
        expect(page.get_by_text(str(self.near), exact=True)).to_be_visible()

    def test_a_game_is_found_by_looking(self):
        page = self.page
        self.open("#/start")
        page.get_by_role("button", name=f"Near a program, 1 large file, 210 MB {self.near}").click()
        expect(page.get_by_label("Folder of the game")).to_have_value(str(self.near))
        page.get_by_role("button", name="Survey this folder").click()
        expect(page.get_by_text("small.crate").first).to_be_visible()
        self.open("#/start")
        expect(page.get_by_text("No folder with a program").or_(page.get_by_text("large file")).first).to_be_visible()
        expect(page.get_by_role("button", name="Near a program")).to_have_count(0)

    def test_the_demo_game_from_the_start(self):
        self.open("#/start")
        self.page.get_by_role("button", name="Try the demo game").click()
        expect(self.page.get_by_role("button", name="Saltglass Ferry")).to_be_visible()
        expect(self.page.get_by_text("sea.crate").first).to_be_visible()
        self.assertRegex(self.page.url, "#/[0-9]+/survey")  # and the file that is shown, once it is

        page = self.page
        page.get_by_role("button", name="Saltglass Ferry").click()
        page.get_by_role("button", name="Forget Saltglass Ferry").click()
        dialog = page.get_by_role("dialog", name="Forget Saltglass Ferry?")
        expect(dialog).to_contain_text("you have made nothing in it yet")
        dialog.get_by_role("button", name="Keep it").click()
        page.get_by_role("button", name="Saltglass Ferry").click()
        page.get_by_role("button", name="Forget Saltglass Ferry").click()
        dialog.get_by_role("button", name="Forget it").click()
        expect(page.get_by_role("button", name="Saltglass Ferry")).to_have_count(0)
        page.get_by_role("button", name="Bring it back").click()
        expect(page.get_by_text("sea.crate").first).to_be_visible()
        self.assertEqual(len([g for g in self.api("/games") if g["name"] == "Saltglass Ferry"]), 1)
