#include "cli/tell_words.hpp"

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"

namespace kestrum {

void print_told(const TellDone& done) {
  for (const TellEvent& event : done.events) {
    if (event.trouble.empty()) {
      out("Mail to {}: {}\n", join(event.to, ", "), event.subject);
      if (!event.said.empty()) out("  the server said: {}\n", event.said);
    } else {
      err("kestrum: mail to {}: {}\n", join(event.to, ", "), event.trouble);
      if (!event.hint.empty()) err("  {}\n", event.hint);
    }
  }
  if (!done.trouble.empty()) err("kestrum: mail: {}\n", done.trouble);
  for (const std::string& trouble : done.pages) err("kestrum: {}\n", trouble);
  if (!done.desks.empty()) err("kestrum: at the desks: {}\n", done.desks);
}

int told_exit(const TellDone& done) {
  bool well = done.trouble.empty() && done.pages.empty() && done.desks.empty();
  for (const TellEvent& event : done.events) well = well && event.trouble.empty();
  return well ? exit_done : exit_code_of(ErrorKind::failed);
}

}  // namespace kestrum
