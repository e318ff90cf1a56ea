#include "tell/mail_message.hpp"

#include <gmime/gmime.h>

#include <memory>
#include <mutex>

#include "base/error.hpp"

namespace kestrum {
namespace {

struct Unref {
  void operator()(void* object) const { g_object_unref(object); }
};
template <typename T>
using Owned = std::unique_ptr<T, Unref>;

GMimeTextPart* new_text(const char* subtype, const std::string& text) {
  GMimeTextPart* part = g_mime_text_part_new_with_subtype(subtype);
  g_mime_text_part_set_charset(part, "utf-8");
  g_mime_text_part_set_text(part, text.c_str());
  g_mime_part_set_content_encoding(GMIME_PART(part), GMIME_CONTENT_ENCODING_QUOTEDPRINTABLE);
  return part;
}

}  // namespace

std::string mail_message(const OutgoingMail& mail, const std::string& machine, bool crlf) {
  static std::once_flag begun;
  std::call_once(begun, [] { g_mime_init(); });
  const Owned<GMimeMessage> message(g_mime_message_new(TRUE));
  g_mime_message_add_mailbox(message.get(), GMIME_ADDRESS_TYPE_FROM, ("Kestrum on " + machine).c_str(),
                             mail.from.c_str());
  for (const std::string& address : mail.to)
    g_mime_message_add_mailbox(message.get(), GMIME_ADDRESS_TYPE_TO, nullptr, address.c_str());
  g_mime_message_set_subject(message.get(), mail.subject.c_str(), "utf-8");
  GDateTime* date = g_date_time_new_from_unix_utc(mail.made.seconds);
  if (date != nullptr) {
    g_mime_message_set_date(message.get(), date);
    g_date_time_unref(date);
  }
  const std::string domain = mail.from.substr(mail.from.find('@') + 1);
  g_mime_message_set_message_id(message.get(), (mail.id + "@" + domain).c_str());
  // RFC 3834: nobody answers by machine.
  g_mime_object_set_header(GMIME_OBJECT(message.get()), "Auto-Submitted", "auto-generated", nullptr);
  const Owned<GMimeTextPart> text(new_text("plain", mail.text));
  if (mail.html.empty()) {
    g_mime_message_set_mime_part(message.get(), GMIME_OBJECT(text.get()));
  } else {
    const Owned<GMimeTextPart> html(new_text("html", mail.html));
    const Owned<GMimeMultipart> both(g_mime_multipart_new_with_subtype("alternative"));
    g_mime_multipart_add(both.get(), GMIME_OBJECT(text.get()));
    g_mime_multipart_add(both.get(), GMIME_OBJECT(html.get()));
    g_mime_message_set_mime_part(message.get(), GMIME_OBJECT(both.get()));
  }
  GMimeFormatOptions* format = g_mime_format_options_new();
  g_mime_format_options_set_newline_format(format,
                                           crlf ? GMIME_NEWLINE_FORMAT_DOS : GMIME_NEWLINE_FORMAT_UNIX);
  char* made = g_mime_object_to_string(GMIME_OBJECT(message.get()), format);
  g_mime_format_options_free(format);
  if (made == nullptr) throw Error(ErrorKind::failed, "the mail could not be put together");
  std::string out(made);
  g_free(made);
  return out;
}

}  // namespace kestrum
