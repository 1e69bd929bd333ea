"""Load rules: the page's worked examples, and texts that are wrong in each way that a person gets YAML wrong."""

import json
import zipfile

import jsonschema_rs
from django.test import SimpleTestCase

from server.home.management.commands.openapi import rules_document
from tests.examples import GameExample, game_examples
from tests.support import ROOT, WithFolder, problem_of
from zubret_core.container import GameFolder
from zubret_core.layout import load_layout, load_rules, shipped_texts
from zubret_core.locate import Holders, Known, LoadOrder
from zubret_core.locate.reads import build_of, drafted, recognised
from zubret_core.rebuild import EntryFile, plan_rebuild, write_plan

GOOD = """zubret: 1
id: boat
describes: game
recognise: [{file: boat.cfg}]
reads:
  - {name: base, archives: base.zip}
  - {name: patches, archives: "patch_*.zip", new: {file: "patch_{number}.zip"}}
"""


class Examples(WithFolder):
    def made(self, example: GameExample) -> GameFolder:
        place = self.folder / example.title
        for path, what in example.files.items():
            file = place / path
            file.parent.mkdir(parents=True, exist_ok=True)
            if isinstance(what, list):
                with zipfile.ZipFile(file, "w") as out:
                    for name in what:
                        out.writestr(name, f"{path} {name}")
            else:
                file.write_text(what if what is not None else f"loose {path}")
        return GameFolder(place)

    def test_each_says_who_wins_and_what_comes_of_a_change(self):
        self.assertGreaterEqual(len(game_examples()), 5)
        new = self.folder / "new"
        new.write_text("new")
        for example in game_examples():
            game, rules, known = self.made(example), load_rules(example.rules), Known()
            self.assertTrue(recognised(rules, game), example.title)
            order = LoadOrder(rules, game)
            holders = Holders(order, known)
            for path, places in example.wins.items():
                with self.subTest(example.title, path=path):
                    self.assertEqual([m.path for m in holders.of(path)], places)
            for (path, way), files in example.puts.items():
                with self.subTest(example.title, path=path, way=way):
                    mount = holders.of(path)[0]
                    index = holders.names(mount)[order.same(path)]
                    name = holders.spot(mount).archive.entries[index].path
                    plans = plan_rebuild(
                        game, [], known=known, files=[EntryFile(mount.path, name, index, new)],
                        order=order, way="" if way == "in place" else way,
                    )  # fmt: skip
                    found = [f"gone {p.path}" if p.gone else p.path for p in plans]
                    self.assertEqual(sorted(found), sorted(files))
                    write_plan(plans, self.folder / "out")
        first = game_examples()[0]
        self.assertEqual(build_of(load_rules(first.rules), GameFolder(self.folder / first.title)), "7")

    def test_a_draft_of_any_game_loads_and_recognises_it(self):
        for example in game_examples():
            game = (
                GameFolder(self.folder / example.title)
                if (self.folder / example.title).is_dir()
                else self.made(example)
            )
            paths = [file.path for file in game.files()]
            text = drafted(f'9 {example.title}: "odd"', game, paths, [p for p in paths if p.endswith(".zip")])
            self.assertTrue(recognised(load_rules(text), game), text)


class Wrong(SimpleTestCase):
    def test_each_mistake_has_its_line_and_what_to_do(self):
        for old, new, line, what in (
            ("describes: game", "describes: gmae", 3, 'Did you mean "game"?'),
            ("reads:", "raeds:", 5, 'Did you mean "reads"?'),
            ("archives: base.zip", "archive: base.zip", 6, 'Did you mean "archives"?'),
            ("archives: base.zip", "regions: base.zip", 6, "is not known here"),
            ("{file: boat.cfg}", "{fiel: boat.cfg}", 4, 'Did you mean "file"?'),
            ("name: patches", "name: base", 7, "stands twice among what is read (see also line 6)"),
            (
                "archives: base.zip",
                "archives: base.zip, files: data",
                6,
                "exactly one of archives, listed, files and folders",
            ),
            ("archives: base.zip", "root: x", 6, "exactly one of archives"),
            ("archives: base.zip", "archives: ../base.zip", 6, "no path below the game's folder"),
            ("archives: base.zip", "archives: 'C:/base.zip'", 6, "no path below the game's folder"),
            ("archives: base.zip", "archives: 'data\\base.zip'", 6, "no path below the game's folder"),
            ("archives: base.zip", "files: x, order: number", 6, "`order` is for several archives"),
            ("archives: base.zip", "files: x, new: {file: 'a{number}'}", 6, "nothing in `new` is an archive"),
            ("archives: base.zip", "files: x, new: {folder: y}", 6, "`folder` is for folders that a line"),
            ("archives: base.zip", "folders: {file: a, line: 'x={value}'}, new: {}", 6, "needs `folder`"),
            ("archives: base.zip", "folders: {file: a, line: 'x='}", 6, "needs {value} once"),
            (
                "archives: base.zip",
                "listed: {file: a, line: 'x={value}'}, new: {file: 'a{number}'}",
                6,
                "can't be put there yet",
            ),
            ("patch_{number}.zip", "patch.zip", 7, "needs {number} or {number:02} once"),
            ('new: {file: "patch_{number}.zip"}', "new: {}", 7, "`new` needs `file`"),
            ('.zip"}}', '.zip", like: zop}}', 7, 'Did you mean "zip"?'),
            ('.zip"}}', '.zip", last: 0}}', 7, "`last` is less than `first`"),
            ("recognise: [{file: boat.cfg}]", "recognise: []", 4, "at least 1 item"),
            ("reads:", "beside: [{of: '*', name: 'a/b'}]\nreads:", 5, "has no slash"),
            ("id: boat", "id: boat\nid: ship", 3, '"id" stands twice here'),
            ("  - {name: base", "  - {name: base,,", 6, "This is not YAML"),
            ("id: boat", "id: Boat Ride", 2, "id: String should match pattern"),
        ):
            with self.subTest(new):
                e = problem_of(self, load_rules, GOOD.replace(old, new, 1))
                self.assertIn(what, e.what)
                self.assertEqual(e.field, f"line {line}")
                self.assertTrue(e.next)
        bare = GOOD.replace(', new: {file: "patch_{number}.zip"}', "") + "in_place: false\n"
        self.assertIn("Nothing could be put into this game", problem_of(self, load_rules, bare).what)
        self.assertIn("no layout of a file", problem_of(self, load_layout, GOOD).what)
        self.assertIn(
            "no load rules of a game", problem_of(self, load_rules, shipped_texts()["saltglass-crate.yaml"]).what
        )

    def test_the_schema_is_the_committed_one_and_takes_what_loads(self):
        """By an independent library of JSON Schema (draft 2020-12)."""
        from ruamel.yaml import YAML

        stored = (ROOT / "docs/load-rules.schema.json").read_text("utf-8")
        self.assertEqual(stored, rules_document(), "run: manage.py openapi")
        takes = jsonschema_rs.validator_for(json.loads(stored))
        for text in [GOOD, shipped_texts()["saltglass-ferry.yaml"], *(e.rules for e in game_examples())]:
            self.assertTrue(takes.is_valid(YAML(typ="safe", pure=True).load(text)))
        self.assertFalse(takes.is_valid(YAML(typ="safe", pure=True).load(GOOD.replace("reads", "raeds"))))
