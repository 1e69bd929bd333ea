"""Files of hours: whatever is done to them takes no more memory than a short one does."""

import subprocess
import sys

from bench.game import wav_head
from tests.support import ROOT, WithFolder

LIMIT = 100 << 20
"""Bytes that the program may take beyond what it has when it begins."""
CODE = """
import resource, sys
sys.path.insert(0, {root!r})
from zubret_core.audio import look_through
from zubret_core.bank.base import OnePayload, Stream
from zubret_core.base import Format
from zubret_core.codec import codec_of
from zubret_core.compiled import load
from zubret_core.source import BytesSource, FileSource
from zubret_core.swap import Level, Treatment, fit_report, prepare

load()
held = next(int(line.split()[1]) for line in open("/proc/self/status") if line.startswith("VmData")) << 10
resource.setrlimit(resource.RLIMIT_DATA, (held + {limit}, held + {limit}))
for format in ({formats}):
    most = codec_of(format).stored_size(format.with_(frames={frames})) or 2 * {frames}
    resource.setrlimit(resource.RLIMIT_FSIZE, (most + 4096, -1))
    original = Stream(0, "", "", format, 0, 9, "", OnePayload(BytesSource(bytes(9))))
    with FileSource({place!r}) as file:
        info = look_through(file)
        how = Treatment(mix=True, trim_start=10)
        made = prepare(original, file, info, how, fit_report(original, Level(None, None, 0.0, 0.0, 9.0), info, how))
    print(info.frames, made.format.frames, made.payload.size, made.snr_db)
    del made
"""


class Long(WithFolder):
    def test_a_replacement_of_hours_is_prepared_in_bounded_memory_and_writes_no_more_than_it_makes(self):
        """The operating system refuses what goes beyond (RLIMIT_DATA), and a file larger than the result (RLIMIT_FSIZE); whole as
        float32 the samples would be 112 MB."""
        place, frames = self.folder / "long.wav", 14_000_000
        with open(place, "wb") as file:  # all but its head is a hole
            file.write(wav_head(frames * 4, 48000, 2))
            file.truncate(44 + frames * 4)
        formats = ", ".join(
            (
                'Format("pcm", 48000, 2, 100)',
                'Format("ima-adpcm", 48000, 2, 100, None, 2048)',
                'Format("filter-adpcm", 48000, 2, 100)',
                'Format("xa-adpcm", 48000, 2, 100)',
                'Format("delta-pcm", 48000, 2, 100)',
                'Format("file", 48000, 1, 100, variant="WAV/PCM_16")',
            )
        )
        code = CODE.format(root=str(ROOT), limit=LIMIT, frames=frames, formats=formats, place=str(place))
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        told = [line.split() for line in done.stdout.splitlines()]
        self.assertEqual([line[:2] for line in told], [[str(frames), str(frames - 10)]] * 6, done.stderr[-2000:])
        self.assertEqual([line[3] for line in told], ["inf"] * 6)
