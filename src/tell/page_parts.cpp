#include "tell/page_parts.hpp"

#include "base/text.hpp"
#include "tell/html.hpp"

namespace kestrum {
namespace {

// The words carry the state; colour only helps. Text on its ground has a contrast of 7 and more.
constexpr const char* style = R"(
:root { color-scheme: light dark; --ground: #ffffff; --text: #1a1a1a; --quiet: #4a4a4a; --line: #c8ccd0;
  --panel: #f3f5f7; --bad: #8c1c13; --good: #1f4e79; }
@media (prefers-color-scheme: dark) {
  :root { --ground: #15181b; --text: #eceff1; --quiet: #b6bcc2; --line: #444a50; --panel: #1f2428; --bad: #ffb0a3;
    --good: #a9d0f5; }
  img { filter: invert(0.92) hue-rotate(180deg); }
}
* { box-sizing: border-box; }
body { margin: 0 auto; padding: 1rem; max-width: 62rem; font: 1rem/1.5 "DejaVu Sans", "Liberation Sans", sans-serif;
  background: var(--ground); color: var(--text); overflow-wrap: anywhere; }
h1 { font-size: 1.5rem; line-height: 1.25; margin: 0.5rem 0; }
h2 { font-size: 1.2rem; margin: 0 0 0.3rem; }
h3 { font-size: 1rem; margin: 1.2rem 0 0.3rem; }
p { margin: 0.3rem 0; }
a { color: var(--good); }
section { border-top: 2px solid var(--line); padding: 1rem 0; }
.sentence { font-weight: bold; }
.quiet { color: var(--quiet); font-size: 0.9rem; }
.state { display: inline-block; padding: 0 0.5em; border: 2px solid var(--good); color: var(--good); font-size: 0.85rem;
  font-weight: bold; border-radius: 0.3em; vertical-align: middle; }
.state.bad { border-color: var(--bad); color: var(--bad); border-style: double; border-width: 4px; }
ul { margin: 0.3rem 0; padding-left: 1.3rem; }
li { margin: 0.3rem 0; }
code { font-family: "DejaVu Sans Mono", "Liberation Mono", monospace; font-size: 0.9em; }
table { border-collapse: collapse; width: 100%; font-size: 0.92rem; }
th, td { text-align: left; padding: 0.25rem 0.6rem 0.25rem 0; border-bottom: 1px solid var(--line); vertical-align: top; }
th { font-weight: bold; }
td, th { white-space: nowrap; }
td.words, th.words { white-space: normal; }
th.words { max-width: 38vw; overflow-wrap: break-word; }
td.number, th.number { text-align: right; }
caption { text-align: left; font-weight: bold; padding: 0.3rem 0; }
img { width: 100%; height: auto; display: block; }
@media (max-width: 40rem) { body { padding: 0.7rem; } td .state { white-space: normal; } .wide { display: none; } h1 { font-size: 1.3rem; } }
@media print { body { max-width: none; padding: 0; font-size: 10pt; }
  h2, h3 { break-after: avoid; } figure, tr { break-inside: avoid; } a { color: inherit; text-decoration: none; } }
figure { margin: 0.3rem 0; }
)";

}  // namespace

std::string page_start(const std::string& title) {
  return "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" "
         "content=\"width=device-width, initial-scale=1\">\n" +
         tag("title", title) + "<style>" + style + "</style>\n</head>\n<body>\n<header>\n" + tag("h1", title);
}

std::string page_end() {
  return tag("p", "Made by kestrum. Nothing on this page is loaded from elsewhere.", "class=\"quiet\"") +
         "</footer>\n</body>\n</html>\n";
}

std::string tag(const char* name, const std::string& text, const std::string& attributes) {
  return std::string("<") + name + (attributes.empty() ? "" : " " + attributes) + ">" + html_text(text) +
         "</" + name + ">\n";
}

std::string badge(const std::string& text, bool bad) {
  return tag("span", text, bad ? "class=\"state bad\"" : "class=\"state\"");
}

std::string PageColumn::attributes(const char* scope) const {
  std::vector<std::string> names;
  if (number) names.emplace_back("number");
  if (wide) names.emplace_back("wide");
  if (words) names.emplace_back("words");
  const std::string classes = join(names, " ");
  std::string out = scope != nullptr ? std::string("scope=\"") + scope + "\"" : "";
  if (!classes.empty()) out += (out.empty() ? "" : " ") + ("class=\"" + classes + "\"");
  return out;
}

std::string table(const std::string& caption, const std::vector<PageColumn>& columns,
                  const std::vector<std::vector<std::string>>& rows) {
  std::string out = "<table>\n" + tag("caption", caption) + "<thead><tr>";
  for (const PageColumn& column : columns) out += tag("th", column.heading, column.attributes("col"));
  out += "</tr></thead>\n<tbody>\n";
  for (const std::vector<std::string>& row : rows) {
    out += "<tr>";
    for (std::size_t i = 0; i < row.size(); ++i)
      out += i == 0 ? tag("th", row[i], columns[i].attributes("row"))
                    : tag("td", row[i], columns[i].attributes());
    out += "</tr>\n";
  }
  return out + "</tbody></table>\n";
}

}  // namespace kestrum
