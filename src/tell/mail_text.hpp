// Letters in words: the subject that says it all, and the same body as plain text and as HTML.
#pragma once

#include "engine/news.hpp"

namespace kestrum {

struct MailText {
  std::string subject, text, html;  // UTF-8
};

// `log`: the text of a run's log, for those who want everything.
MailText mail_text(const Letter& letter, const std::function<std::string(const RunEntry&)>& log);

}  // namespace kestrum
