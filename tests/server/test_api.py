"""The whole API against requests that nobody here thought of: made from its own OpenAPI document by schemathesis."""

import json
import os
import warnings
from urllib.parse import quote

import schemathesis
from hypothesis import HealthCheck, given, settings
from schemathesis.generation.modes import GenerationMode

from server.games.models import Game, Key, NameList, Survey
from server.jobs.models import Job
from server.layouts.models import UserLayout
from server.mods.models import Build, EntryFile, Mod, Swap, Trial
from server.shelf.models import Archive, Stream
from tests.server.support import ServerTest, wav_bytes
from tests.support import ROOT, copy_of_demo, tone

REAL = {
    "archive_id": Archive, "build_id": Build, "file_id": EntryFile, "game_id": Game, "job_id": Job, "key_id": Key,
    "layout_id": UserLayout, "mod_id": Mod, "names_id": NameList, "new": Survey, "old": Survey, "stream_id": Stream,
    "survey_id": Survey, "swap_id": Swap, "trial_id": Trial,
}  # fmt: skip
EXAMPLES = max(2, int(os.environ.get("ZUBRET_FUZZ", "0")) // 20)
"""Requests of each mode for each operation."""


class Strange(ServerTest):
    def setUp(self):
        super().setUp()
        game = self.add_game(small=True)
        stream = self.stream(game, "0004")
        self.upload(game, stream, wav_bytes(tone(0.1, 24000, 480), 24000))
        self.send("post", f"/games/{game['id']}/keys", {"label": "k", "text": "00ff"})
        self.send("post", "/layouts", {"name": "own", "text": "zubret: 1"})
        copy_of_demo(self.root / "data" / "demo" / "Saltglass Ferry")
        self.client.raise_request_exception = False

    def test_no_request_is_answered_by_a_mistake_of_ours(self):
        """Well-formed and malformed ones; none is answered with 500 or above, and every refusal has its three parts."""
        document = json.loads((ROOT / "web" / "openapi.json").read_text("utf-8"))
        schema = schemathesis.openapi.from_dict(document)
        faults: dict[str, str] = {}
        operations = [found.ok() for found in schema.get_all_operations()]
        for operation in sorted(operations, key=lambda o: (o.method == "delete", o.path)):
            for mode in (GenerationMode.POSITIVE, GenerationMode.NEGATIVE):
                self.try_out(operation, mode, faults)
        self.assertEqual(faults, {}, "\n".join(f"{k}: {v}" for k, v in faults.items()))

    def try_out(self, operation, mode, faults: dict[str, str]) -> None:
        name = f"{operation.method.upper()} {operation.path}"

        @settings(max_examples=EXAMPLES, deadline=None, derandomize=True, database=None,
                  suppress_health_check=list(HealthCheck))  # fmt: skip
        @given(operation.as_strategy(generation_mode=mode))
        def run(case) -> None:
            given_numbers = case.path_parameters or {}
            real = {k: self.real(k) for k in given_numbers if k in REAL}
            for numbers in (given_numbers, {**given_numbers, **real}):
                if name not in faults and (fault := self.fault(operation, case, numbers)):
                    faults[name] = fault

        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            try:
                run()
            except Exception as e:  # nothing can be made for it
                if type(e).__name__ not in ("Unsatisfiable", "InvalidArgument"):
                    raise

    def real(self, name: str) -> int:
        """The key of the newest row of what a path parameter names; 0 where there is none."""
        return REAL[name]._base_manager.order_by("-pk").values_list("pk", flat=True).first() or 0

    def fault(self, operation, case, numbers: dict) -> str:
        """What is wrong with the answer to a request, or nothing."""
        path, method = operation.path, operation.method.upper()
        for key, value in numbers.items():
            path = path.replace(f"{{{key}}}", quote(str(value).encode("utf-8", "surrogatepass"), safe=""))
        sent = isinstance(case.body, (dict, list, str, int, float, bool))
        data = json.dumps(case.body) if sent and method not in ("GET", "HEAD") else ""
        query = {k: str(v) for k, v in (case.query or {}).items()}
        answer = self.client.generic(method, path, data, content_type="application/json", query_params=query)
        told = b"" if answer.streaming else answer.content
        if answer.status_code >= 500 and answer.status_code not in (503, 507):
            return f"{answer.status_code} {told[:300]!r} for {path!r} {query} {data[:500]}"
        if (
            answer.status_code >= 400
            and method != "HEAD"
            and path != "/api/health"
            and not told.startswith(b'{"what": ')
        ):
            return f"{answer.status_code} is no problem: {told[:200]!r}"
        return ""
