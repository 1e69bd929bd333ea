"""What is said of many streams at once: all of it can be taken back, and nothing else changes."""

from datetime import timedelta

from django.db import connection
from django.utils import timezone

from bench.game import loose_sounds
from server.home.tidy import UNDONE
from server.jobs.orders import Tidy
from server.jobs.run import start
from server.shelf.models import Given, Saying, Unsaid
from tests.server.support import ServerTest

N = 3_000
"""More streams than go into one transaction."""


class Sayings(ServerTest):
    def setUp(self):
        super().setUp()
        folder = self.root / "library" / "game"
        loose_sounds(folder, N)
        self.game = self.send("post", "/games", {"folder": str(folder)})["id"]

    def numbers(self, **asked) -> list[int]:
        return self.client.get(f"/api/games/{self.game}/stream-numbers", asked).json()

    def rows(self, **asked) -> list[dict]:
        return self.client.get(f"/api/games/{self.game}/streams", {"limit": 500, **asked}).json()["rows"]

    def say(self, chosen: list[int], status: int = 200, **what) -> dict:
        return self.send("post", f"/games/{self.game}/sayings", {"chosen": chosen, **what}, status)

    def undo(self, saying: dict, status: int = 200) -> dict:
        return self.send("post", f"/sayings/{saying['id']}/undo", status=status)

    def test_all_are_marked_and_unmarked_and_come_back(self):
        every = self.numbers(sort="-size")
        self.assertEqual(len(every), N)
        self.assertEqual(self.numbers(sort="-size", first=10, last=12), every[10:13])
        names = [row["name"] for row in self.rows(sort="-size")]
        before = self.say(every[:2], said={"marked": True, "notes": " kept "})
        made = self.say(every, said={"marked": True})
        self.assertEqual(made["streams"], N)
        self.assertEqual(len(self.numbers(marked="true")), N)
        self.send("patch", f"/streams/{every[0]}", {"name": "since then"})
        back = self.undo(made)
        self.assertEqual({row["id"] for row in self.rows(marked="true")}, set(every[:2]))
        self.assertEqual(
            {row["id"]: (row["name"], row["notes"]) for row in self.rows(q="kept")},
            {every[0]: ("since then", "kept"), every[1]: (names[1], "kept")},
        )
        self.undo(back)
        self.assertEqual(len(self.numbers(marked="true")), N)
        self.undo(before)
        self.assertEqual(len(self.numbers(marked="true")), N - 2)

    def test_names_by_a_pattern_count_in_the_order_of_the_list(self):
        chosen = self.numbers(sort="-size")[:1200][::-1]
        plan = self.send("post", f"/games/{self.game}/sayings/plan", {"chosen": chosen, "template": "line {number:4}"})
        self.assertEqual((plan["names"][:2], plan["doubled"]), (["line 0001", "line 0002"], 0))
        same = self.send("post", f"/games/{self.game}/sayings/plan", {"chosen": chosen, "template": "line"})
        self.assertEqual(same["doubled"], 1199)
        made = self.say(chosen, template="line {number:4}")
        self.assertEqual([row["id"] for row in self.rows(q="line", sort="name")][:3], chosen[:3])
        at = self.client.get(f"/api/games/{self.game}/stream-beginning", {"sort": "-size", "text": "LINE 0002"}).json()
        self.assertEqual(self.numbers(sort="-size", first=at, last=at), [chosen[1]])
        self.undo(made)
        self.assertEqual(self.rows(q="line"), [])

    def test_what_cant_be_said_changes_nothing(self):
        every = self.numbers()
        self.say(every, 422, said={"kind": "noise"})
        self.say(every, 422, template="{nothing}")
        self.say([*every, 1 << 40], 410, template="{number}")
        self.say([1 << 40], said={"marked": True})
        other = self.root / "library" / "other"
        loose_sounds(other, 3)
        other = self.send("post", "/games", {"folder": str(other)})["id"]
        theirs = self.client.get(f"/api/games/{other}/stream-numbers").json()
        self.assertEqual(self.say(theirs, said={"marked": True})["streams"], 0)
        self.assertFalse(Given.objects.exists())

    def test_a_day_later_it_stays_as_it_is(self):
        made = self.say(self.numbers(), said={"marked": True})
        newer = self.say(self.numbers(last=1), said={"kind": "voice"})
        Saying.objects.filter(pk=made["id"]).update(made=timezone.now() - UNDONE - timedelta(minutes=1))

        def meanwhile(execute, sql, params, many, context):  # somebody says something while it tidies up
            if sql.startswith("DELETE") and "shelf_unsaid" in sql and not said:
                said.append(None)
                said.append(self.say(self.numbers(last=0), said={"kind": "music"}))
            return execute(sql, params, many, context)

        said: list = []
        with connection.execute_wrapper(meanwhile):
            start(Tidy(), "tidy")
        self.assertEqual(Unsaid.objects.count(), 3)
        self.undo(said[1])
        self.undo(made, 410)
        self.undo(newer)
        self.assertEqual(len(self.numbers(marked="true")), N)
