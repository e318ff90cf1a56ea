#include "engine/job_in_force.hpp"

#include "base/file_handle.hpp"

namespace kestrum {

constexpr std::size_t most_bytes = 1u << 20;

std::optional<JobInForce> job_in_force(const Home& home, const std::string& name,
                                       std::optional<Error>* trouble) {
  if (!home.has_job(name)) home.load_job(name);  // says which there are
  try {
    return JobInForce{home.load_job(name), {}};
  } catch (const Error& error) {
    if (trouble != nullptr) *trouble = error;
    try {
      const Bytes text = read_small_file(home.last_good_file(name), most_bytes);
      return JobInForce{parse_job(name, home.job_path(name), std::string(as_text(text))), error};
    } catch (const Error&) {
      return std::nullopt;
    }
  }
}

void remember_good_form(const Home& home, const Job& job) {
  const std::string path = home.last_good_file(job.name);
  try {
    const Bytes known = read_small_file(path, most_bytes);
    if (as_text(known) == job.text) return;
  } catch (const Error&) {
    // None yet.
  }
  try {
    home.make_folder_of(path);
    replace_file(path, as_bytes(job.text), 0600);
  } catch (const Error&) {
    // The state folder is full or not ours.
  }
}

}  // namespace kestrum
