#include "tell/restored_json.hpp"

namespace kestrum {

Json restored_json(const RestoredItem& item) {
  Json one = Json::object();
  put_path(one, "path", item.path.absolute());
  put_path(one, "placed", item.placed);
  one["type"] = entry_type_name(item.type);
  one["size"] = item.size;
  one["fate"] = fate_word(item.fate);
  one["note"] = fate_text(item.fate);
  one["point"] = item.point;
  one["sha256"] = item.sha256.empty() ? Json(nullptr) : Json(item.sha256);
  return one;
}

}  // namespace kestrum
