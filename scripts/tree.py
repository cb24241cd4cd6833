#!/usr/bin/env python3
"""Makes a tree to measure with: always the same for the same kind and seed.

usage: scripts/tree.py KIND FOLDER [CHANGED_PERCENT]
  large   10,203 files in 103 folders, 3.3 GB: three archives of 700 MB, 200 files of 5 MB, 10,000 of 4 to 36 KB
  small   100,000 files in 1,952 folders, 8 KB on the average, 0.8 GB
  texts   10,000 text files in 100 folders, 300 MB; each tenth one names /data/old/maps once
Of a tree with CHANGED_PERCENT, that share of the bytes and of the files differs from the one without.
"""
import os
import random
import sys

kind, root = sys.argv[1], sys.argv[2]
changed = float(sys.argv[3]) / 100 if len(sys.argv) > 3 else 0.0
MEBI = 1 << 20
pool = random.Random(1).randbytes(16 * MEBI)
other = random.Random(2).randbytes(16 * MEBI)


def piece(number, size, source):
    """Bytes that no other number has, taken from a few at random."""
    start = number * 7919 % (len(source) - MEBI)
    return (b"%016d" % number + source[start:start + size - 16])[:size]


def write(path, number, size, source):
    with open(path, "wb") as file:
        while size > 0:
            part = min(size, MEBI)
            file.write(piece(number, part, source))
            number, size = number + 1_000_003, size - part


def differs(number, of):
    return number % of < changed * of


def make(name, sizes, per_folder, ending):
    for number, size in enumerate(sizes):
        folder = f"{root}/{name}{number // per_folder:04d}"
        os.makedirs(folder, exist_ok=True)
        write(f"{folder}/item{number:06d}{ending}", number, size, other if differs(number, 20) else pool)


dice = random.Random(3)
os.makedirs(root)
if kind == "large":
    for number in range(3):
        write(f"{root}/archive{number}.wja", number * 17, 700 * MEBI, pool)
    make("media", [5 * MEBI] * 200, 67, ".wjm")
    make("set", [dice.randrange(4000, 36000) for _ in range(10_000)], 101, ".wjp")
elif kind == "small":
    make("set", [dice.randrange(100, 16000) for _ in range(100_000)], 52, ".wjp")
elif kind == "texts":
    words = [b"%s" % bytes(dice.choice(b"abcdefghijklmnopqrstuvwxyz/.-=") for _ in range(dice.randrange(2, 12))) for _ in range(4000)]
    lines = [b" ".join(dice.choice(words) for _ in range(9)) + b"\n" for _ in range(20_000)]
    for number in range(10_000):
        folder = f"{root}/set{number // 100:04d}"
        os.makedirs(folder, exist_ok=True)
        start = dice.randrange(len(lines) - 600)
        with open(f"{folder}/item{number:06d}.txt", "wb") as file:
            text = b"".join(lines[start:start + 460])[:30_000]
            file.write(b"%d\n" % number + text + (b"\nmaps = /data/old/maps/one\n" if number % 10 == 0 else b"\n"))
else:
    sys.exit(__doc__)
