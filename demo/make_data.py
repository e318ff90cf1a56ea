#!/usr/bin/env python3
"""Makes the files of the Skerry Point Bird Observatory, a made-up place: the same ones at every call.

make_data.py FOLDER [small]   small: without the large mail store and the long recordings"""
import math
import os
import random
import sqlite3
import struct
import sys
import zlib
from datetime import datetime, timedelta, timezone

BIRDS = ["Arctic Tern", "Wheatear", "Meadow Pipit", "Goldcrest", "Storm Petrel", "Rock Pipit", "Willow Warbler", "Redwing", "Fulmar", "Turnstone"]
MOTHS = ["Garden Tiger", "Buff Ermine", "Silver Y", "Magpie Moth", "Dark Arches", "Antler Moth", "Heath Rustic", "Northern Rustic"]
WARDENS = ["isla", "magnus"]
START = datetime(2027, 2, 1, 8, 0, tzinfo=timezone.utc)
chance = random.Random(20270301)


def put(path, content, when):
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "wb") as file:
        file.write(content if isinstance(content, bytes) else content.encode())
    os.utime(path, (when.timestamp(), when.timestamp()))


def ringing_list(day, rows):
    lines = ["ring,species,age,wing_mm,weight_g,net,time"]
    for i in range(rows):
        lines.append("SP%06d,%s,%d,%d,%.1f,%s,%02d:%02d" % (
            day.toordinal() % 1000 * 100 + i, chance.choice(BIRDS), chance.choice([3, 4, 5, 6]), chance.randrange(55, 280),
            chance.uniform(5, 130), chance.choice("ABCDH"), chance.randrange(5, 19), chance.randrange(60)))
    return "\n".join(lines) + "\n"


def moth_log(day):
    lines = ["Skerry Point trap log, night of " + day.strftime("%Y-%m-%d"),
             "Wind %s %d, cloud %d/8, %d C at dusk" % (chance.choice(["W", "SW", "NE", "N"]), chance.randrange(1, 7), chance.randrange(9), chance.randrange(4, 14)), ""]
    for moth in sorted(chance.sample(MOTHS, 5)):
        lines.append("%-18s %3d" % (moth, chance.randrange(1, 40)))
    return "\n".join(lines) + "\n"


def picture(width, height, seed):
    """A PNG of a misty shore: a gradient, a horizon, some noise."""
    noise = random.Random(seed)
    rows = bytearray()
    for y in range(height):
        rows.append(0)
        for x in range(width):
            shore = y > height * (0.6 + 0.05 * math.sin(x / 40 + seed))
            base = (90, 110, 95) if shore else (170 + y // 4 % 60, 190, 205)
            grain = noise.randrange(-9, 10)
            rows += bytes(max(0, min(255, c + grain)) for c in base)

    def chunk(name, data):
        return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))

    header = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(bytes(rows), 6)) + chunk(b"IEND", b"")


def recording(seconds, seed):
    """A WAV of surf with a calling bird in it."""
    surf = random.Random(seed)
    rate = 16000
    samples = bytearray()
    level = 0.0
    for i in range(rate * seconds):
        level = level * 0.97 + surf.uniform(-1, 1) * 900
        call = 5000 * math.sin(i * (0.9 + 0.2 * math.sin(i / 900))) if i // 4000 % 5 == 0 else 0
        samples += struct.pack("<h", int(max(-32000, min(32000, level + call))))
    head = b"RIFF" + struct.pack("<I", 36 + len(samples)) + b"WAVEfmt " + struct.pack("<IHHIIHH", 16, 1, 1, rate, rate * 2, 2, 16)
    return head + b"data" + struct.pack("<I", len(samples)) + bytes(samples)


def mail_store(messages):
    lines = []
    for i in range(messages):
        day = START - timedelta(hours=7 * (messages - i))
        lines.append("From office@skerrypoint.example %s\nFrom: office@skerrypoint.example\nTo: %s@skerrypoint.example\nSubject: Ferry and stores, note %d\nDate: %s\n\n"
                     % (day.strftime("%a %b %d %H:%M:%S %Y"), chance.choice(WARDENS), i + 1, day.strftime("%a, %d %b %Y %H:%M:%S +0000")))
        for _ in range(chance.randrange(3, 30)):
            lines.append(" ".join(chance.choice(["tern", "ferry", "stores", "wind", "north", "list", "net", "ring", "gas", "bread", "boat", "Tuesday"]) for _ in range(12)) + "\n")
        lines.append("\n")
    return "".join(lines)


def track(points):
    body = "".join('<trkpt lat="%.6f" lon="%.6f"><time>%s</time></trkpt>\n' % (
        59.1 + i * 0.00011 + chance.uniform(0, 0.0001), -3.2 + math.sin(i / 20) * 0.002, (START + timedelta(minutes=i)).strftime("%Y-%m-%dT%H:%M:%SZ")) for i in range(points))
    return '<?xml version="1.0"?>\n<gpx version="1.1" creator="observatory">\n<trk><name>North beach count</name><trkseg>\n' + body + "</trkseg></trk>\n</gpx>\n"


def sightings(path, rows):
    os.makedirs(os.path.dirname(path), exist_ok=True)
    if os.path.exists(path):
        os.unlink(path)
    database = sqlite3.connect(path)
    database.execute("CREATE TABLE sighting (id INTEGER PRIMARY KEY, day TEXT, species TEXT, count INTEGER, place TEXT, observer TEXT)")
    for i in range(rows):
        database.execute("INSERT INTO sighting (day, species, count, place, observer) VALUES (?, ?, ?, ?, ?)", (
            (START - timedelta(days=chance.randrange(700))).strftime("%Y-%m-%d"), chance.choice(BIRDS), chance.randrange(1, 300),
            chance.choice(["North beach", "Lighthouse", "Geo", "West cliffs", "Walled garden"]), chance.choice(WARDENS)))
    database.commit()
    database.close()
    os.utime(path, (START.timestamp(), START.timestamp()))


def main():
    root = sys.argv[1]
    small = "small" in sys.argv[2:]
    for i in range(14 if small else 60):
        day = START - timedelta(days=2 * i)
        put("%s/srv/ringing/%d/%s.csv" % (root, day.year, day.strftime("%Y-%m-%d")), ringing_list(day, chance.randrange(20, 90)), day)
    for i in range(10 if small else 40):
        night = datetime(2026, 7, 1, tzinfo=timezone.utc) + timedelta(days=i)
        put("%s/srv/moths/2026/%s.txt" % (root, night.strftime("%Y-%m-%d")), moth_log(night), night)
    sightings(root + "/srv/sightings/sightings.db", 500 if small else 6000)
    for i in range(3 if small else 8):
        put("%s/home/isla/Pictures/north-beach-%02d.png" % (root, i + 1), picture(160 if small else 320, 120 if small else 200, i), START - timedelta(days=3 * i))
    for i in range(1 if small else 3):
        put("%s/home/isla/Recordings/petrel-burrow-%d.wav" % (root, i + 1), recording(2 if small else 6, i), START - timedelta(days=5 * i))
    put(root + "/home/isla/Mail/inbox.mbox", mail_store(60 if small else 3000), START)
    put(root + "/home/magnus/Tracks/2027-01-30-count.gpx", track(200), START - timedelta(days=2))
    put(root + "/home/magnus/Notes/boat repairs.txt", "Bilge pump: new impeller.\nOrder two fenders.\n", START - timedelta(days=9))
    put(root + "/home/magnus/Notes/Outer skerry r\u00e9sum\u00e9.txt", "Names with accents come back too.\n", START - timedelta(days=20))


if __name__ == "__main__":
    main()
