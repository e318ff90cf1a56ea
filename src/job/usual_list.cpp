#include "job/usual_list.hpp"

namespace kestrum {

std::span<const UsualSkip> usual_list() {
  static constexpr UsualSkip list[] = {
      {".local/share/Trash/", "a desktop's trash"},
      {".Trash/", "trash"},
      {".Trash-[0-9]*/", "trash on another drive"},
      {"$RECYCLE.BIN/", "trash written by other systems"},
      {"System Volume Information/", "other systems' own notes about a drive"},
      {"lost+found/", "what a file system check put aside"},
      {".cache/", "caches of the desktop's programs"},
      {".thumbnails/", "small pictures for file managers"},
      {".var/app/*/cache/", "caches of sandboxed programs"},
      {".mozilla/**/cache2/", "a browser's cache"},
      {".config/**/Cache/", "a browser's cache"},
      {".config/**/Code Cache/", "a browser's cache"},
      {".config/**/GPUCache/", "a browser's cache"},
      {".config/**/Service Worker/CacheStorage/", "a browser's cache"},
      {".gvfs/", "other machines' files, shown in the home"},
      {".xsession-errors*", "messages of the desktop"},
      {"*.tmp", "temporary files"},
      {"~$*", "lock files of office programs"},
      {".~lock.*", "lock files of office programs"},
      {"*.swp", "editors' scratch files"},
      {"*.crdownload", "downloads that are not complete"},
      {".nfs[0-9a-f]*", "removed files that a network drive still keeps"},
      {"/tmp/", "the system's temporary files"},
      {"/var/tmp/", "the system's temporary files"},
      {"/var/cache/", "the system's caches"},
      {"/run/", "what the running system keeps about itself"},
      {"/media/", "drives that are plugged in"},
      {"/mnt/", "drives that are mounted for a while"},
      {"/swapfile", "the system's memory on disk"},
      {"/swap.img", "the system's memory on disk"},
  };
  return list;
}

}  // namespace kestrum
