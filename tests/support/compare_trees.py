"""What a tree is, told with Python's own means, so that a restored tree can be compared with what was saved by
something that shares no code with Kestrum."""
import hashlib
import os
import stat


def look(path):
    """Type, mode, owner, group, nanosecond time, size or target, digest of the content."""
    status = os.lstat(path)
    kind = stat.S_IFMT(status.st_mode)
    facts = [kind, stat.S_IMODE(status.st_mode), status.st_uid, status.st_gid, status.st_mtime_ns]
    if stat.S_ISREG(status.st_mode):
        digest = hashlib.sha1()
        with open(path, "rb") as file:
            while block := file.read(1 << 20):
                digest.update(block)
        facts += [status.st_size, digest.digest(), status.st_nlink]
    elif stat.S_ISLNK(status.st_mode):
        facts[1] = 0
        facts += [os.readlink(path)]
    elif stat.S_ISCHR(status.st_mode) or stat.S_ISBLK(status.st_mode):
        facts += [status.st_rdev]
    try:
        facts.append(tuple(sorted((name, os.getxattr(path, name, follow_symlinks=False))
                                  for name in os.listxattr(path, follow_symlinks=False))))
    except OSError:
        facts.append(())
    return tuple(facts)


def manifest(root):
    """Every path below root (bytes, relative) with its facts, and the groups of hard links."""
    root = os.fsencode(root)
    found = {b"": look(root)}
    groups = {}
    for folder, folders, files in os.walk(root):
        for name in folders + files:
            path = os.path.join(folder, name)
            below = path[len(root) + 1:]
            found[below] = look(path)
            status = os.lstat(path)
            if status.st_nlink > 1 and not stat.S_ISDIR(status.st_mode):
                groups.setdefault((status.st_dev, status.st_ino), []).append(below)
    links = sorted(tuple(sorted(group)) for group in groups.values())
    return found, links


def differences(expected, got):
    """In words, at most twenty; empty when the trees are the same."""
    words = []
    for path in sorted(expected[0].keys() | got[0].keys()):
        one, other = expected[0].get(path), got[0].get(path)
        if one != other:
            words.append("%r: %r became %r" % (path, one, other))
    if expected[1] != got[1]:
        words.append("the groups of hard links differ")
    return words[:20]
