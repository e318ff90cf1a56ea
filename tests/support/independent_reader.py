#!/usr/bin/python3
"""Reads archive sets by docs/FORMAT.md alone: independent_reader.py JOB_FOLDER SEQUENCE TARGET [PASSPHRASE_FILE]

Shares no code with Kestrum. Writes everything at the point below TARGET, under its full path. It trusts nothing that
the page says must be checked, and stops with a message where the page and the bytes disagree."""
import hashlib
import json
import os
import stat
import struct
import sys

import zstandard
from cryptography.hazmat.primitives.ciphers.aead import AESGCM


def need(condition, what):
    if not condition:
        raise SystemExit("not as FORMAT.md says: " + what)


def digest(data):
    return hashlib.blake2b(data, digest_size=32).digest()


def keyed(key, data):
    return hashlib.blake2b(data, digest_size=32, key=key).digest()


def derive(key, purpose, context):
    return keyed(key, b"kestrum.v1." + purpose.encode() + b"\0" + context)


def open_box(key, ordinal, associated, box):
    return AESGCM(key).decrypt(struct.pack("<Q", ordinal) + bytes(4), box, associated)


class Bytes:
    """Section 1: integers and varints."""

    def __init__(self, data):
        self.data, self.at = data, 0

    def raw(self, size):
        need(self.at + size <= len(self.data), "data ends too early")
        self.at += size
        return self.data[self.at - size:self.at]

    def u8(self):
        return self.raw(1)[0]

    def u32(self):
        return struct.unpack("<I", self.raw(4))[0]

    def u64(self):
        return struct.unpack("<Q", self.raw(8))[0]

    def varint(self):
        value, shift = 0, 0
        while True:
            byte = self.u8()
            value |= (byte & 0x7F) << shift
            shift += 7
            if byte < 0x80:
                need(byte != 0 or shift == 7, "a varint is in its shortest form")
                return value

    def signed(self):
        value = self.varint()
        return (value >> 1) ^ -(value & 1)

    def bytes(self):
        return self.raw(self.varint())

    def ref(self):
        return self.raw(32), self.varint(), self.varint()

    def end(self):
        need(self.at == len(self.data), "data goes on after its end")


def checked_json(path, names, keyed_file):
    """Section 3: gives the sections, and (section, bytes before its check, auth)."""
    with open(path, "rb") as file:
        data = file.read()
    lines = data.split(b"\n")
    need(lines[0] == b"{" and lines[-1] == b"" and lines[-2] == b"}" and len(lines) == 3 + 2 * len(names), "form of " + path)
    sections, auths, at = {}, [], 2
    for i, name in enumerate(names):
        line, check = lines[1 + 2 * i], lines[2 + 2 * i]
        start = b'"' + name.encode() + b'":'
        need(line.startswith(start) and line.endswith(b","), "section " + name)
        sections[name] = json.loads(line[len(start):-1])
        at += len(line) + 1
        before = data[:at]
        at += len(check) + 1
        check = json.loads(b"{" + check.rstrip(b",") + b"}")[name + "-check"]
        need(check["digest"] == digest(before).hex(), "digest of " + name)
        if keyed_file:
            auths.append((name, before, bytes.fromhex(check["auth"])))
    return sections, auths


def master_key(keys, chain, passphrase):
    """Section 3, key entries."""
    for entry in keys:
        if entry["type"] == "clear":
            return bytes.fromhex(entry["key"])
        if entry["type"] == "passphrase":
            import argon2.low_level as argon
            salt = bytes.fromhex(entry["salt"])
            derived = argon.hash_secret_raw(passphrase, salt, entry["passes"], entry["memory-kib"], 1, 32, argon.Type.ID, 0x13)
            return open_box(derive(derived, "wrap", chain + salt), 0, chain, bytes.fromhex(entry["box"]))
    raise SystemExit("no key entry that can be opened")


class Set:
    """One sealed set: section 4 to 7."""

    MAGIC = {"volume": b"KSTMVOL\x1a", "index": b"KSTMIDX\x1a"}

    def __init__(self, folder, passphrase):
        self.folder = folder
        self.others = []   # folders of sets that it covers, as far as they are there
        sections, auths = checked_json(os.path.join(folder, "seal.json"), ["core", "envelope"], True)
        self.core = sections["core"]
        first, last = self.core["covers"]
        need(last == self.core["sequence"] and 1 <= first <= last, "the range covered")
        need(self.core["format"] == 1 and set(self.core["requires"]) <= {"fold-1", "needs-1", "carry-1"}, "format and features")
        need(("fold-1" in self.core["requires"]) == (first < last), "the mark of a folded set")
        self.follow = "needs-1" in self.core["requires"]
        self.carries = "carry-1" in self.core["requires"]
        self.id, self.chain, self.job = (bytes.fromhex(self.core[name]) for name in ("set", "chain", "job"))
        self.master = master_key(sections["envelope"]["keys"], self.chain, passphrase)
        for name, before, auth in auths:
            purpose = ("seal-" + name).encode()
            need(keyed(derive(self.master, "auth", purpose + self.id), before) == auth, "auth of " + name)
        naming = self.core["naming"]
        salt = bytes.fromhex(naming["salt"])
        self.naming = open_box(derive(self.master, "naming", self.chain + salt), 0, self.chain, bytes.fromhex(naming["box"]))
        salt = bytes.fromhex(self.core["root"]["salt"])
        root = Bytes(open_box(derive(self.master, "root", self.id + salt), 0, self.id, bytes.fromhex(self.core["root"]["box"])))
        need(root.u8() == 1, "version of the root")
        self.level, self.top = root.u8(), root.ref()
        self.fence = (root.varint(), root.varint())
        self.record, self.job_file, self.problems = root.ref(), root.ref(), root.ref()
        root.end()
        self.chunks = {}   # name to (slot, frame offset, frame size, offset, length), from the index
        self.headers, self.files, self.frames = {}, {}, {}

    def read(self):
        for file in self.core["files"]:
            self.check_file(file)
        self.read_index()

    def supersedes(self, other):
        mine, its = self.core["covers"], other.core["covers"]
        return self.chain == other.chain and mine != its and mine[0] <= its[0] and its[1] <= mine[1]

    def path_of(self, file):
        """Its own folder, or, section 11, that of a covered set, where only the header tells."""
        own = os.path.join(self.folder, file["name"])
        if os.path.exists(own) or file["set"] == self.core["set"]:
            return own
        for folder in self.others:
            for name in sorted(os.listdir(folder)):
                with open(os.path.join(folder, name), "rb") as handle:
                    header = handle.read(96)
                if header[:8] == self.MAGIC["volume"] and header[32:48].hex() == file["set"] and struct.unpack("<I", header[12:16])[0] == file["number"]:
                    return os.path.join(folder, name)
        return own

    def check_file(self, file):
        """Header, row of frames, digest."""
        with open(self.path_of(file), "rb") as handle:
            data = handle.read()
        need(len(data) == file["size"], "size of " + file["name"])
        header = data[:96]
        kind = "index" if file["slot"] == 0 else "volume"
        need(header[:8] == self.MAGIC[kind] and struct.unpack("<HH", header[8:12]) == (1, 96), "header of " + file["name"])
        need(struct.unpack("<I", header[12:16])[0] == file["number"] and header[16:32] == self.job, "identity of " + file["name"])
        need(header[32:48] == bytes.fromhex(file["set"]) and header[80:88] == bytes(8) and header[88:] == digest(header[:88])[:8], "identity of " + file["name"])
        covered, at, ordinal = header, 96, 0
        while at < len(data):
            head = data[at:at + 16]
            need(head[:4] == b"KFRM" and head[7] == 0 and struct.unpack("<I", head[8:12])[0] == ordinal, "head of a frame in " + file["name"])
            size = 32 + struct.unpack("<I", head[12:16])[0]
            covered += head + data[at + size - 16:at + size]
            at, ordinal = at + size, ordinal + 1
        need(at == len(data) and digest(covered).hex() == file["digest"], "digest of " + file["name"])
        self.headers[file["slot"]] = (header, derive(self.master, kind, header))
        self.files[file["slot"]] = data

    def frame(self, slot, offset, size):
        """Kind, list of (name, length), content."""
        if (slot, offset) in self.frames:
            return self.frames[slot, offset]
        header, key = self.headers[slot]
        data = self.files[slot][offset:offset + size]
        head = data[:16]
        box = Bytes(open_box(key, struct.unpack("<I", head[8:12])[0], header + head, data[16:]))
        listed = [(box.raw(32), box.u32()) for _ in range(box.u32())]
        length = box.u32()
        content = box.raw(len(box.data) - box.at)
        if head[5] == 1:
            content = zstandard.ZstdDecompressor(max_window_size=8 << 20).decompress(content, max_output_size=max(length, 1))
        need(len(content) == length, "length of a frame's content")
        if head[4] in (1, 2, 5):
            at = 0
            for name, size in listed:
                need(keyed(derive(self.naming, "chunk-name", b""), content[at:at + size]) == name, "name of a chunk")
                at += size
            need(at == length, "sum of a frame's list")
        else:
            need(not listed, "frames of this kind list nothing")
        if len(self.frames) > 8:
            self.frames.clear()
        self.frames[slot, offset] = (head[4], listed, content)
        return self.frames[slot, offset]

    def read_index(self):
        kind, _, content = self.frame(0, *self.fence)
        need(kind == 7, "kind of the fence table")
        table, last = Bytes(content), b""
        for _ in range(table.u32()):
            first, offset, size = table.raw(32), table.u64(), table.u32()
            kind, _, page = self.frame(0, offset, size)
            need(kind == 6 and len(page) % 56 == 0 and page[:32] == first, "an index page")
            rows = Bytes(page)
            while rows.at < len(page):
                name = rows.raw(32)
                need(name > last, "order of the index")
                last = name
                self.chunks[name] = (rows.u32(), rows.u64(), rows.u32(), rows.u32(), rows.u32())
        table.end()

    def chunk(self, name):
        slot, offset, size, at, length = self.chunks[name]
        return self.frame(slot, offset, size)[2][at:at + length]


class Point:
    """Section 8 and 9."""

    def __init__(self, sets, sequence):
        self.own = sets[sequence]
        self.all = sets
        self.sets = [self.own] + [one for one in self.needed(self.own) if one is not self.own]
        self.last = None

    def needed(self, start):
        found = []
        for required in start.core["needs"]:
            meeting = [one for one in self.all.values() if one.id.hex() == required["set"] or
                       (one.chain == start.chain and one.core["covers"][0] <= required["sequence"] <= one.core["covers"][1])]
            need(len(meeting) == 1, "a needed set")
            for one in [meeting[0]] + (self.needed(meeting[0]) if start.follow else []):
                left_out = start.follow and one.core["sequence"] in start.core["without"]
                if one not in found and not left_out:
                    found.append(one)
        return found

    def fetch(self, ref):
        for one in self.sets:
            if ref[0] in one.chunks:
                content = one.chunk(ref[0])
                need(len(content) == ref[2], "length of a chunk")
                return content
        raise SystemExit("a chunk is in none of the sets")

    def entries(self, ref=None, level=None):
        ref, level = ref or self.own.top, self.own.level if level is None else level
        page = Bytes(self.fetch(ref))
        need(page.u8() == 1 and page.u8() == level, "version and level of a page")
        previous = b""
        for _ in range(page.varint()):
            shared = page.varint()
            path = previous[:shared] + page.bytes()
            previous = path
            if level > 0:
                below = page.ref()
                count, size = page.varint(), page.varint()
                entries = list(self.entries(below, level - 1))
                need(entries[0]["path"] == path and len(entries) == count, "what an upper page says")
                need(sum(one["size"] for one in entries if one["type"] == 2) == size, "bytes below a page")
                yield from entries
            else:
                order = path.replace(b"/", b"\0")
                need(self.last is None or self.last < order, "order of the catalog")
                self.last = order
                need(all(part not in (b"", b".", b"..") for part in path.split(b"/")) or path == b"", "components of a path")
                yield self.entry(page, path)
        page.end()

    def entry(self, page, path):
        entry = {"path": path, "type": page.u8(), "flags": page.varint(), "mode": page.varint(), "owner": page.varint(), "group": page.varint(),
                 "owner-name": page.bytes(), "group-name": page.bytes()}
        need(entry["flags"] < 256 and (self.own.carries or entry["flags"] < 128) and 1 <= entry["type"] <= 8, "flags and type")
        for name in ("modified", "changed"):
            entry[name] = page.signed() * 10**9 + page.varint()
        entry["size"], entry["filesystem"], entry["inode"] = page.varint(), page.varint(), page.varint()
        if entry["type"] == 3:
            entry["target"] = page.bytes()
        if entry["type"] in (5, 6):
            entry["device"] = os.makedev(page.varint(), page.varint())
        if entry["type"] in (2, 8):
            entry["content"] = self.content_list(page, entry["size"])
        attributes = []
        if entry["flags"] & 32:
            attributes = [(page.bytes(), page.bytes()) for _ in range(page.varint())]
        if entry["flags"] & 64:
            chunk = Bytes(self.fetch(page.ref()))
            attributes = [(chunk.bytes(), chunk.bytes()) for _ in range(chunk.varint())]
            chunk.end()
        entry["attributes"] = attributes
        if entry["flags"] & 128:
            entry["carried-from"] = page.signed() * 10**9 + page.varint()
        return entry

    def content_list(self, source, length):
        items = []
        for _ in range(source.varint()):
            kind, size = source.u8(), source.varint()
            need(kind in (1, 2, 3), "kind of a content item")
            ref = None
            if kind != 2:
                name, hint = source.raw(32), source.varint()
                ref = (name, hint, size if kind == 1 else source.varint())
            items.append((kind, size, ref))
        need(sum(size for _, size, _ in items) == length, "sum of a content list")
        return items

    def content(self, items):
        for kind, size, ref in items:
            if kind == 1:
                yield self.fetch(ref)
            elif kind == 2:
                yield size
            else:
                chunk = Bytes(self.fetch(ref))
                below = self.content_list(chunk, size)
                chunk.end()
                yield from self.content(below)

    def write(self, target):
        links, folders = {}, []
        for entry in self.entries():
            path = os.path.join(os.fsencode(target), entry["path"])
            kind = entry["type"]
            if kind == 1:
                os.makedirs(path, exist_ok=True)
                folders.append((path, entry))
                continue
            group = (entry["filesystem"], entry["inode"])
            if entry["flags"] & 16 and group in links:
                os.link(links[group], path, follow_symlinks=False)
                continue
            if kind == 2:
                with open(path, "xb") as file:
                    for part in self.content(entry["content"]):
                        if isinstance(part, int):
                            file.seek(part, 1)
                        else:
                            file.write(part)
                    file.truncate(entry["size"])
            elif kind == 3:
                os.symlink(entry["target"], path)
            elif kind == 4:
                os.mkfifo(path)
            elif kind in (5, 6):
                os.mknod(path, (stat.S_IFCHR if kind == 5 else stat.S_IFBLK) | 0o600, entry["device"])
            else:
                continue
            links[group] = path
            self.attributes(path, entry)
        for path, entry in reversed(folders):
            self.attributes(path, entry)

    @staticmethod
    def attributes(path, entry):
        if os.geteuid() == 0:
            os.chown(path, entry["owner"], entry["group"], follow_symlinks=False)
        for name, value in entry["attributes"]:
            os.setxattr(path, name, value, follow_symlinks=False)
        if entry["type"] != 3:
            os.chmod(path, entry["mode"])
        os.utime(path, ns=(entry["modified"], entry["modified"]), follow_symlinks=False)


def main():
    job_folder, sequence, target = sys.argv[1], int(sys.argv[2]), sys.argv[3]
    passphrase = open(sys.argv[4], "rb").read().rstrip(b"\n") if len(sys.argv) > 4 else b""
    job, _ = checked_json(os.path.join(job_folder, "job.json"), ["job"], False)
    found, folders = [], []
    for name in sorted(os.listdir(job_folder)):
        folder = os.path.join(job_folder, name)
        if os.path.isdir(folder):
            folders.append((int(name.split("_")[0]), folder))
        if os.path.isdir(folder) and not name.endswith(".removing") and os.path.exists(os.path.join(folder, "seal.json")):
            one = Set(folder, passphrase)
            need(one.core["sequence"] == int(name.split("_")[0]) and one.core["job"] == job["job"]["job"], "a set's folder")
            found.append(one)
    sets = {}
    for one in found:
        if any(other.supersedes(one) for other in found):
            continue
        need(one.core["sequence"] not in sets, "one set of a sequence")
        sets[one.core["sequence"]] = one
        first, last = one.core["covers"]
        if first < last:
            one.others = [folder for number, folder in folders if first <= number <= last and folder != one.folder]
        one.read()
    point = Point(sets, sequence)
    record = json.loads(point.fetch(point.own.record))
    need(record["version"] == 1 and record["sources"], "the record")
    need(b"[what]" in point.fetch(point.own.job_file), "the job file")
    point.write(target)


if __name__ == "__main__":
    main()
