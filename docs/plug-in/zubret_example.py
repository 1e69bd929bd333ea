"""A step and a codec for Zubret. They need nothing but Python."""

import array
import sys

MIRROR = bytes(int(f"{n:08b}"[::-1], 2) for n in range(256))


class MirroredBits:
    """The bits of every byte in reverse order; with `every`, of one byte in so many."""

    def __init__(self, every: int = 1):
        self.every = every

    def unpack(self, data: bytes, size: int) -> bytes:
        out = bytearray(data)
        out[:: self.every] = data[:: self.every].translate(MIRROR)
        return bytes(out)

    def pack(self, data: bytes) -> bytes:
        return self.unpack(data, len(data))


class SquareEight:
    """One byte a sample: how far it is from 0x80, squared and doubled."""

    def decode(self, data: bytes, about: dict) -> bytes:
        samples = array.array("h", [(n - 128) * abs(n - 128) * 2 * 32767 // 32768 for n in data])
        if sys.byteorder == "big":
            samples.byteswap()
        return samples.tobytes()

    def frames(self, data: bytes, about: dict) -> int:
        return len(data) // about["channels"]

    def encode(self, samples: bytes, about: dict) -> bytes:
        numbers = array.array("h", samples)
        if sys.byteorder == "big":
            numbers.byteswap()
        return bytes(128 + max(-128, min(127, round((abs(n) / 2) ** 0.5) * (1 if n > 0 else -1))) for n in numbers)
