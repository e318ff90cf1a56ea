"""unzip.py FILE FOLDER: unpacks a .zip as its table says: names as bytes, links as links, modes."""
import os
import stat
import sys
import zipfile

with zipfile.ZipFile(sys.argv[1]) as archive:
    if archive.testzip() is not None:
        sys.exit("a member is damaged")
    for member in archive.infolist():
        raw = member.filename.encode("utf-8" if member.flag_bits & 0x800 else "cp437")
        path = os.path.join(os.fsencode(sys.argv[2]), raw)
        mode = member.external_attr >> 16
        if member.is_dir():
            os.makedirs(path, exist_ok=True)
            continue
        os.makedirs(os.path.dirname(path), exist_ok=True)
        if stat.S_ISLNK(mode):
            os.symlink(archive.read(member), path)
        else:
            with open(path, "xb") as out:
                out.write(archive.read(member))
            os.chmod(path, stat.S_IMODE(mode))
