#include "job/categories.hpp"

#include <algorithm>
#include <set>

namespace kestrum {

namespace {

const std::vector<Category> all{
    {"documents",
     "texts, tables, slides, notes, PDF, tracks",
     "XDG_DOCUMENTS_DIR",
     {"Documents"},
     {"odt",  "ods", "odp",  "odg",  "odf",  "odb",  "ott", "ots", "doc",  "docx",     "docm",  "dot",
      "dotx", "xls", "xlsx", "xlsm", "xlsb", "csv",  "tsv", "ppt", "pptx", "pps",      "ppsx",  "rtf",
      "txt",  "md",  "tex",  "bib",  "pdf",  "epub", "ps",  "wpd", "abw",  "gnumeric", "pages", "numbers",
      "key",  "mm",  "vsd",  "vsdx", "gpx",  "kml",  "kmz", "fit", "tcx"}},
    {"pictures",
     "photographs, drawings, raw files of cameras",
     "XDG_PICTURES_DIR",
     {"Pictures"},
     {"jpg", "jpeg", "jpe",  "png", "gif", "tif", "tiff", "webp", "heic", "heif", "avif", "jxl",
      "bmp", "svg",  "svgz", "xcf", "psd", "kra", "ora",  "cr2",  "cr3",  "crw",  "nef",  "nrw",
      "arw", "srf",  "sr2",  "dng", "orf", "rw2", "raf",  "pef",  "srw",  "raw",  "xmp"}},
    {"music",
     "music and other listening",
     "XDG_MUSIC_DIR",
     {"Music"},
     {"mp3", "flac", "ogg", "oga", "opus", "m4a", "m4b", "aac", "wma", "ape", "wv", "mid", "midi", "m3u",
      "m3u8", "pls"}},
    {"video",
     "films and clips",
     "XDG_VIDEOS_DIR",
     {"Videos"},
     {"mp4", "m4v", "mkv", "webm", "mov", "avi", "mpg", "mpeg", "mts", "m2ts", "3gp", "ogv", "wmv", "flv",
      "vob", "srt"}},
    {"recordings",
     "uncompressed sound and what voice recorders write",
     "",
     {"Recordings", "Sounds"},
     {"wav", "wave", "bwf", "w64", "rf64", "aif", "aiff", "aifc", "au", "amr", "dss", "ds2", "caf"}},
    {"mail",
     "the mail programs' folders, and mailboxes elsewhere",
     "",
     {".thunderbird", "Mail", "mail", "Maildir", ".maildir", ".mail", ".local/share/evolution",
      ".config/evolution", ".local/share/kmail2", ".local/share/local-mail", ".claws-mail", ".sylpheed-2.0",
      ".local/share/geary", ".mutt", "snap/thunderbird/common/.thunderbird",
      ".var/app/org.mozilla.Thunderbird/.thunderbird"},
     {"mbox", "eml", "emlx", "msg", "pst", "ost", "vcf", "ics"}},
    {"desktop", "what lies on the desktop", "XDG_DESKTOP_DIR", {"Desktop"}, {}},
    {"downloads", "what was fetched from elsewhere", "XDG_DOWNLOAD_DIR", {"Downloads"}, {}},
    {"browser profiles",
     "bookmarks, saved pages and settings of web browsers",
     "",
     {".mozilla", ".config/chromium", ".config/google-chrome", ".config/microsoft-edge", ".config/vivaldi",
      ".config/opera", ".config/BraveSoftware", ".config/epiphany", ".local/share/epiphany", ".config/falkon",
      ".config/qutebrowser", ".local/share/qutebrowser", "snap/firefox/common/.mozilla",
      "snap/chromium/common/chromium", ".var/app/org.mozilla.firefox/.mozilla",
      ".var/app/org.chromium.Chromium/config"},
     {}},
    {"settings",
     "settings of the desktop and its programs, keys, fonts, the shell's files",
     "",
     {".config",      ".local/share", ".local/bin", ".ssh",        ".gnupg",        ".fonts",
      ".themes",      ".icons",       ".profile",   ".bashrc",     ".bash_profile", ".bash_aliases",
      ".bash_logout", ".zshrc",       ".zshenv",    ".zprofile",   ".inputrc",      ".vimrc",
      ".vim",         ".nanorc",      ".gitconfig", ".xsessionrc", ".Xresources",   ".selected_editor"},
     {}},
    {"everything", "the whole home", "", {""}, {}},
};

}  // namespace

std::span<const Category> categories() {
  return all;
}

std::vector<std::string> category_names() {
  std::vector<std::string> names;
  for (const Category& category : categories()) names.emplace_back(category.name);
  return names;
}

std::vector<WantedPlace> category_places(Selection& selection, const std::vector<std::string>& chosen,
                                         const std::vector<Account>& people) {
  std::vector<WantedPlace> places;
  std::set<std::string> searched;
  // In the order of the table, so that the same choice always means the same.
  for (const Category& category : categories()) {
    if (std::find(chosen.begin(), chosen.end(), category.name) == chosen.end()) continue;
    auto number = static_cast<std::uint16_t>(selection.categories.size());
    selection.categories.emplace_back(category.name);
    for (const char* type : category.types) selection.types.emplace(type, number);
    for (const Account& person : people) {
      std::map<std::string, std::string> named = user_folders(person.home);
      auto own = named.find(category.user_folder);
      if (own != named.end()) {
        places.push_back({own->second, true, number});
      } else {
        for (const char* folder : category.folders)
          places.push_back({person.home + (*folder != '\0' ? "/" : "") + folder, true, number});
      }
      if (!category.types.empty() && searched.insert(person.home).second)
        places.push_back({person.home, false, 0});
    }
  }
  return places;
}

}  // namespace kestrum
