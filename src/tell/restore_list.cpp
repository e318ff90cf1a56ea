#include "tell/restore_list.hpp"

#include "base/text.hpp"
#include "tell/csv_field.hpp"
#include "tell/restored_json.hpp"

namespace kestrum {
namespace {

bool is_json(const std::string& path) {
  if (path.ends_with(".json")) return true;
  if (path.ends_with(".csv")) return false;
  throw Error(ErrorKind::usage, "--list " + printable(path) + " does not say what kind of file it is to be",
              "let its name end in .csv or .json");
}

}  // namespace

RestoreList::RestoreList(const std::string& path) : json_(is_json(path)), file_(path) {
  file_.write(json_ ? "[" : "fate,bytes,sha256,point,path,placed\r\n");
}

void RestoreList::add(const RestoredItem& item) {
  if (json_) {
    file_.write((any_ ? ",\n" : "\n") + restored_json(item).dump());
  } else {
    file_.write(std::string(fate_word(item.fate)) + "," + std::to_string(item.size) + "," + item.sha256 +
                "," + std::to_string(item.point) + "," + csv_field(printable(item.path.absolute())) + "," +
                csv_field(printable(item.placed)) + "\r\n");
  }
  any_ = true;
}

void RestoreList::finish() {
  if (json_) file_.write("\n]\n");
  file_.keep();
}

}  // namespace kestrum
