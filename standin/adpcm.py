"""The game's own IMA ADPCM in blocks: a plain decoder, and an encoder that does all blocks at once.

Tables and rules: IMA "Recommended Practices", rev. 3.00 (1992), section 6. Block layout: a header
of 4 bytes a channel (first sample, step index, zero), then 4 bytes a channel in turn, low nibble
first.
"""

import struct

import numpy as np

STEPS = [
    7, 8, 9, 10, 11, 12, 13, 14, 16, 17, 19, 21, 23, 25, 28, 31, 34, 37, 41, 45, 50, 55, 60, 66, 73, 80, 88, 97,
    107, 118, 130, 143, 157, 173, 190, 209, 230, 253, 279, 307, 337, 371, 408, 449, 494, 544, 598, 658, 724, 796,
    876, 963, 1060, 1166, 1282, 1411, 1552, 1707, 1878, 2066, 2272, 2499, 2749, 3024, 3327, 3660, 4026, 4428, 4871,
    5358, 5894, 6484, 7132, 7845, 8630, 9493, 10442, 11487, 12635, 13899, 15289, 16818, 18500, 20350, 22385, 24623,
    27086, 29794, 32767,
]  # fmt: skip
MOVES = [-1, -1, -1, -1, 2, 4, 6, 8]

# What each nibble adds, and the index it leads to, for every step index.
ADDS = []
NEXT = []
for _i, _step in enumerate(STEPS):
    for _n in range(16):
        _d = (_step >> 3) + (_step >> 2) * (_n & 1) + (_step >> 1) * (_n >> 1 & 1) + _step * (_n >> 2 & 1)
        ADDS.append(-_d if _n & 8 else _d)
        NEXT.append(min(88, max(0, _i + MOVES[_n & 7])))


def block_frames(block_size, channels):
    """Frames in a block of `block_size` bytes."""
    return (block_size // channels - 4) * 2 + 1


def decode(data, channels, block_size, frames):
    """(frames, channels) int16, one nibble after the other."""
    per_block = block_frames(block_size, channels)
    out = [[] for _ in range(channels)]
    for block in range(-(-frames // per_block)):
        base = block * block_size
        for c in range(channels):
            sample, index, zero = struct.unpack_from("<hBB", data, base + 4 * c)
            if index > 88 or zero:
                raise ValueError(f"block {block} has a bad header (step index {index})")
            row = out[c]
            row.append(sample)
            state = index * 16
            for group in range(base + 4 * channels + 4 * c, base + block_size, 4 * channels):
                for byte in data[group : group + 4]:
                    for nibble in (byte & 15, byte >> 4):
                        sample += ADDS[state + nibble]
                        sample = 32767 if sample > 32767 else -32768 if sample < -32768 else sample
                        row.append(sample)
                        state = NEXT[state + nibble] * 16
    return np.array(out, np.int16).T[:frames]


def encode(pcm, block_size):
    """int16 (frames, channels) as blocks; every block starts from a step that suits its first frames."""
    frames, channels = pcm.shape
    per_block = block_frames(block_size, channels)
    blocks = -(-frames // per_block)
    padded = np.concatenate([pcm, np.repeat(pcm[-1:], blocks * per_block - frames, axis=0)]).astype(np.int64)
    x = padded.reshape(blocks, per_block, channels)
    steps, adds, nexts = np.array(STEPS), np.array(ADDS), np.array(NEXT)
    rise = np.abs(np.diff(x[:, :12], axis=1)).mean(axis=1)
    index = np.clip(np.searchsorted(steps, rise), 0, 88)
    sample = x[:, 0].copy()
    head = np.zeros((blocks, channels, 4), np.uint8)
    head[..., :2] = sample.astype("<i2")[..., None].view(np.uint8).reshape(blocks, channels, 2)
    head[..., 2] = index
    nibbles = np.zeros((blocks, per_block - 1, channels), np.uint8)
    for n in range(1, per_block):
        miss = x[:, n] - sample
        size = np.minimum(7, np.abs(miss) * 4 // steps[index])
        code = size + 8 * (miss < 0)
        state = index * 16 + code
        sample = np.minimum(np.maximum(sample + adds[state], -32768), 32767)
        index = nexts[state]
        nibbles[:, n - 1] = code
    packed = nibbles[:, 0::2] | nibbles[:, 1::2] << 4
    groups = packed.reshape(blocks, -1, 4, channels).transpose(0, 1, 3, 2).reshape(blocks, -1)
    return np.concatenate([head.reshape(blocks, -1), groups], axis=1).tobytes()
