"""Who may ask, what is refused, and what is kept in order."""

import hashlib
import json
import os
import subprocess
import sys
import tempfile
import threading
import urllib.request
from pathlib import Path
from unittest import skipUnless

from django.db import connection
from django.test import Client, SimpleTestCase
from waitress import create_server

from server.body import given_back
from server.bulk import bulk_insert
from server.games.models import Game
from server.home.management.commands.openapi import document
from server.jobs.alive import QUEUES, Sign
from server.jobs.models import Job
from server.shelf.models import Archive, Entry
from tests.server.support import ServerTest
from tests.support import ROOT


class Guards(ServerTest):
    def test_a_changing_request_needs_the_page_s_token(self):
        strict = Client(enforce_csrf_checks=True, HTTP_HOST="127.0.0.1")
        body = {"folder": str(self.root / "library")}
        for call in (strict.post, strict.patch, strict.delete):
            answer = call("/api/games", json.dumps(body), content_type="application/json")
            self.assertEqual(answer.status_code, 403)
            self.assertIn("no valid token", answer.json()["what"])
        self.assertEqual(Game.objects.count(), 0)
        strict.get("/")
        token = strict.cookies["csrftoken"].value
        answer = strict.post(
            "/api/games", json.dumps(body), content_type="application/json", headers={"X-CSRFToken": token}
        )
        self.assertEqual(answer.status_code, 200)

    def test_a_foreign_host_is_refused(self):
        for host in ("evil.example", "127.0.0.1.evil.example", "10.0.0.1"):
            for path in ("/", "/api/games"):
                answer = Client(HTTP_HOST=host).get(path)
                self.assertEqual(answer.status_code, 400, host)
                self.assertIn("not Zubret's own", answer.json()["what"])
        self.assertEqual(Client(HTTP_HOST="localhost:8377").get("/api/games").status_code, 200)

    def test_health_needs_all_workers(self):
        self.assertEqual(self.get("/health", 503)["workers"], {"long": False, "quick": False, "background": False})
        signs = [Sign(queue) for queue in QUEUES]
        self.assertEqual(self.get("/health")["ok"], True)
        signs[0].close()
        self.assertEqual(self.get("/health", 503)["workers"], {"long": False, "quick": True, "background": True})
        for sign in signs[1:]:
            sign.close()

    def test_jobs_are_cancelled(self):
        waiting = Job.objects.create(kind="survey", title="x")
        self.assertEqual(self.send("post", f"/jobs/{waiting.pk}/cancel")["state"], "cancelled")
        running = Job.objects.create(kind="survey", title="y", state=Job.RUNNING)
        self.send("post", f"/jobs/{running.pk}/cancel")
        from server.jobs.run import _Reporter
        from zubret_core.base import Cancelled

        with self.assertRaises(Cancelled):
            _Reporter(running.pk)(1, 2, "working")

    def test_what_is_not_there_is_a_problem_and_no_page(self):
        for path in ("/games/9/streams", "/streams/9", "/swaps/9", "/mods/9/plan", "/archives/9/ribbon", "/jobs/9"):
            problem = self.get(path, 404)
            self.assertTrue(problem["what"] and problem["next"], path)
        self.assertIn("can't be understood", self.get("/games/1/streams?limit=many", 422)["what"])

    def test_a_request_that_is_too_large_is_told_so(self):
        game = Game.objects.create(name="g", folder="/nowhere")
        with self.settings(DATA_UPLOAD_MAX_MEMORY_SIZE=1 << 20):
            body = {"path": "a", "text": "a/name/of/an/entry\n" * 60_000}
            self.assertIn("larger than 1 MiB", self.send("post", f"/games/{game.pk}/names", body, 413)["what"])

    def test_an_address_of_the_api_that_there_is_not(self):
        for path in ("/nothing", "/games/one/survey", "/"):
            self.assertIn("nothing at this address", self.get(path, 404)["what"])

    def test_the_page_is_served_with_assets_that_last(self):
        page = self.client.get("/")
        policy = page["Content-Security-Policy"]
        self.assertEqual(self.client.get("/index.html")["Content-Security-Policy"], policy)
        self.assertIn("default-src 'self'", policy)
        self.assertEqual((page.status_code, page["Cache-Control"]), (200, "no-cache"))
        asset = page.content.decode().split('src="')[1].split('"')[0]
        answer = self.client.get(asset)
        self.assertEqual(answer.status_code, 200)
        self.assertIn("immutable", answer["Cache-Control"])
        self.assertNotIn("http://", page.content.decode().replace("http://www.w3.org", ""))


@skipUnless(sys.platform == "linux", "only Linux gives room back in the middle of a file")
class Bodies(SimpleTestCase):
    def test_a_large_body_gives_its_room_back_as_it_is_read(self):
        """Through the HTTP server itself, whose file it is."""
        data, room = os.urandom(24 << 20), []

        def application(environ, start):
            body, digest = environ["wsgi.input"], hashlib.sha256()
            while piece := body.readline(1 << 16) + body.read(1 << 16):
                digest.update(piece)
                room.append(os.fstat(body._file.fileno()).st_blocks * 512)
            start("200 OK", [("Content-Type", "text/plain")])
            return [digest.hexdigest().encode()]

        server = create_server(given_back(application), host="127.0.0.1", port=0)
        threading.Thread(target=server.run, daemon=True).start()
        self.addCleanup(server.close)
        asked = urllib.request.Request(f"http://127.0.0.1:{server.effective_port}/", data, method="POST")
        with urllib.request.urlopen(asked, timeout=30) as answer:
            self.assertEqual(answer.read().decode(), hashlib.sha256(data).hexdigest())
        self.assertGreater(room[0], 23 << 20)
        self.assertLess(room[-1], 5 << 20)


class Bulk(ServerTest):
    def test_bulk_rows_are_those_of_the_orm(self):
        game = Game.objects.create(name="g", folder="/x")
        archive = Archive.objects.create(game=game, path="a", size=1, mtime_ns=1, kind="zip")
        rows = [(archive.pk, n, f"e{n}", None, n, 1 << 40, 2, "plain", None, "", None) for n in range(25_000)]
        self.assertEqual(list(bulk_insert(Entry, Entry.BULK, rows)), list(range(2_500, 25_001, 2_500)))
        last = Entry.objects.get(archive=archive, ordinal=24_999)
        self.assertEqual((last.path, last.stored, last.path_raw, last.crc32), ("e24999", 1 << 40, None, None))

    def test_foreign_keys_and_wal_are_on(self):
        with connection.cursor() as cursor:
            self.assertEqual(cursor.execute("PRAGMA foreign_keys").fetchone()[0], 1)
            self.assertEqual(cursor.execute("PRAGMA journal_mode").fetchone()[0], "wal")


class Generated(SimpleTestCase):
    """Files that are made from the code are those that are committed."""

    def test_openapi_and_types_are_fresh(self):
        self.assertEqual((ROOT / "web/openapi.json").read_text("utf-8"), document(), "run: manage.py openapi")
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "schema.d.ts"
            tool = ROOT / "web/node_modules/.bin/openapi-typescript"
            subprocess.run([tool, ROOT / "web/openapi.json", "-o", out], check=True, capture_output=True)
            self.assertEqual((ROOT / "web/src/lib/schema.d.ts").read_text("utf-8"), out.read_text("utf-8"))

    def test_migrations_are_complete(self):
        from django.core.management import call_command

        call_command("makemigrations", "--check", "--dry-run", verbosity=0)

    databases = {"default"}
