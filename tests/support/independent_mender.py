#!/usr/bin/python3
"""Mends a file of an archive set by docs/FORMAT.md alone: independent_mender.py SET_FOLDER SLOT TARGET

Shares no code with Kestrum. Writes the file with that slot to TARGET as it was, or says what it cannot mend."""
import json
import os
import struct
import sys

import xxhash

SLICE = 4096


def need(condition, what):
    if not condition:
        raise SystemExit("not as FORMAT.md says: " + what)


# Section 10: GF(2^8) with the polynomial 0x11D.
POWERS, LOGS = [0] * 510, [0] * 256
value = 1
for exponent in range(255):
    POWERS[exponent] = POWERS[exponent + 255] = value
    LOGS[value] = exponent
    value = value << 1 ^ (0x11D if value & 0x80 else 0)


def times(a, b):
    return POWERS[LOGS[a] + LOGS[b]] if a and b else 0


def inverse(a):
    return POWERS[255 - LOGS[a]]


TABLES = {}


def scaled(factor, piece):
    if factor not in TABLES:
        TABLES[factor] = bytes(times(factor, byte) for byte in range(256))
    return piece.translate(TABLES[factor])


def plus(a, b):
    return (int.from_bytes(a, "little") ^ int.from_bytes(b, "little")).to_bytes(SLICE, "little")


def solve(matrix, sums):
    """Gauss and Jordan: the pieces whose combinations are these sums."""
    size = len(matrix)
    for column in range(size):
        pivot = next(row for row in range(column, size) if matrix[row][column])
        matrix[column], matrix[pivot] = matrix[pivot], matrix[column]
        sums[column], sums[pivot] = sums[pivot], sums[column]
        factor = inverse(matrix[column][column])
        matrix[column] = [times(factor, entry) for entry in matrix[column]]
        sums[column] = scaled(factor, sums[column])
        for row in range(size):
            if row == column or not matrix[row][column]:
                continue
            factor = matrix[row][column]
            matrix[row] = [a ^ times(factor, b) for a, b in zip(matrix[row], matrix[column])]
            sums[row] = plus(sums[row], scaled(factor, sums[column]))
    return sums


def main():
    folder, slot, target = sys.argv[1], int(sys.argv[2]), sys.argv[3]
    lines = open(os.path.join(folder, "seal.json"), "rb").read().split(b"\n")
    seal = json.loads(b"{" + lines[1].rstrip(b",") + b"," + lines[3].rstrip(b",") + b"}")
    file = next(one for one in seal["core"]["files"] if one["slot"] == slot)
    parity = next(one for one in seal["envelope"]["parity"] if one["for"] == slot)
    k, m, groups = parity["k"], parity["m"], parity["groups"]
    need(1 <= k and 1 <= m and k + m <= 255, "k + m is at most 255")
    count = -(-file["size"] // SLICE)
    need(count <= k * groups, "every slice is in a group")

    mend = open(os.path.join(folder, parity["name"]), "rb").read()
    need(len(mend) == parity["size"], "the parity file has the seal's size")
    need(mend[96:160] == b"KMND" + struct.pack("<IQIIII", 1, file["size"], SLICE, k, m, groups) + bytes.fromhex(file["digest"]),
         "the head of a parity file")
    checks = struct.unpack_from("<%dQ" % (count + groups * m), mend, 160)
    begin = 160 + 8 * len(checks)
    again = struct.unpack_from("<%dQ" % len(checks), mend, begin + groups * m * SLICE)
    rows = [mend[begin + i * SLICE:begin + (i + 1) * SLICE] for i in range(groups * m)]

    def good(number, piece):
        return xxhash.xxh3_64_intdigest(piece) in (checks[number], again[number])

    data = open(os.path.join(folder, file["name"]), "rb").read()[:file["size"]]
    data += bytes(count * SLICE - len(data))
    slices = [data[i * SLICE:(i + 1) * SLICE] for i in range(count)]
    lost = {}
    for i, piece in enumerate(slices):
        if not good(i, piece):
            lost.setdefault(i % groups, []).append(i)
    for group, missing in lost.items():
        usable = [row for row in range(m) if good(count + group * m + row, rows[group * m + row])][:len(missing)]
        if len(usable) < len(missing):
            raise SystemExit("beyond mending: group %d" % group)
        sums, matrix = [], []
        for row in usable:
            total = rows[group * m + row]
            for i in range(group, count, groups):
                if i not in missing:
                    total = plus(total, scaled(inverse((k + row) ^ (i // groups)), slices[i]))
            sums.append(total)
            matrix.append([inverse((k + row) ^ (i // groups)) for i in missing])
        for i, piece in zip(missing, solve(matrix, sums)):
            need(good(i, piece), "what is mended has its checksum")
            slices[i] = piece
    with open(target, "wb") as out:
        out.write(b"".join(slices)[:file["size"]])
    print(sum(map(len, lost.values())), "slices mended")


main()
