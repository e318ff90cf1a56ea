#!/usr/bin/env python3
"""Replaces text in the first section of a checked JSON file and makes its plain digests anew (docs/FORMAT.md,
section 3). The keyed digests no longer hold, as they would not for somebody without the key."""
import hashlib
import re
import sys

path, old, new = sys.argv[1:4]
lines = open(path, "rb").read().split(b"\n")
if old.encode() not in lines[1]:
    sys.exit("not found: " + old)
lines[1] = lines[1].replace(old.encode(), new.encode(), 1)
for at in range(2, len(lines) - 2, 2):
    before = b"\n".join(lines[:at]) + b"\n"
    digest = hashlib.blake2b(before, digest_size=32).hexdigest().encode()
    lines[at] = re.sub(rb'"digest":"[0-9a-f]{64}"', b'"digest":"' + digest + b'"', lines[at])
open(path, "wb").write(b"\n".join(lines))
