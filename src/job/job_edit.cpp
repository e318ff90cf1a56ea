#include "job/job_edit.hpp"

#include "job/job_file.hpp"

namespace kestrum {

std::string edit_job_text(const std::string& name, const std::string& file, const std::string& text,
                          const std::vector<KeyChange>& changes) {
  return edit_keys(
      file, text, changes,
      [](const FileKey& key, const KeyValues& values) {
        Job scratch;
        static_cast<const JobKey&>(key).set(scratch, values);
      },
      [&](const std::string& wanted) { return parse_job(name, file, wanted).given; });
}

}  // namespace kestrum
