#include "cli/restore_request.hpp"

#include <unistd.h>

#include <filesystem>

#include "base/text.hpp"
#include "cli/path_words.hpp"

namespace kestrum {
namespace {

// The option's choices have been checked.
template <typename Value>
Value choice(const Arguments& arguments, const std::string& option, Value usual,
             std::optional<Value> (*parse)(std::string_view)) {
  std::optional<std::string> text = arguments.value(option);
  return text ? *parse(*text) : usual;
}

std::optional<OwnerAccount> owner_of(const Arguments& arguments) {
  const std::optional<std::string> name = arguments.value("owner");
  if (!name) return std::nullopt;
  const std::optional<OwnerAccount> account = find_account(*name);
  if (!account)
    throw Error(ErrorKind::usage, "there is no account '" + printable(*name) + "' on this machine",
                "create it first, or name another one");
  if (geteuid() != 0 && account->user != geteuid())
    throw Error(ErrorKind::usage, "only root can give files to somebody else",
                "run it as root, or leave --owner away: the files belong to you then");
  return account;
}

std::string absolute_path(const std::string& text) {
  std::string path = std::filesystem::absolute(text).lexically_normal().string();
  while (path.size() > 1 && path.ends_with('/')) path.pop_back();
  return path;
}

// --to, --in-place or --into: one of them.
void take_target(const Arguments& arguments, RestoreRequest& request) {
  const std::optional<std::string> to = arguments.value("to"), into = arguments.value("into");
  request.in_place = arguments.has("in-place");
  if ((to ? 1 : 0) + (into ? 1 : 0) + (request.in_place ? 1 : 0) != 1)
    throw Error(ErrorKind::usage,
                "say where to: --to DIR, --in-place for where the files were, or --into FILE for one file",
                "nothing was restored");
  if (to && to->empty()) throw Error(ErrorKind::usage, "--to needs a folder", "--to DIR");
  request.target = to ? absolute_path(*to) : "/";
  if (!into) return;
  request.into = *into == "-" ? RestoreInto::stream : RestoreInto::archive;
  if (request.into == RestoreInto::archive) {
    request.target = absolute_path(*into);
  } else if (arguments.has("json")) {
    throw Error(ErrorKind::usage, "the file and the result cannot both go to standard output",
                "leave --json away, or write the file with --to DIR");
  } else {
    request.stream = STDOUT_FILENO;
  }
  for (const char* option : {"clash", "devices", "with-owners"}) {
    if (arguments.has(option))
      throw Error(ErrorKind::usage, std::string("--") + option + " says nothing of a file that is made anew",
                  "leave it away with --into");
  }
}

}  // namespace

std::vector<PathMap> path_maps(const Arguments& arguments) {
  std::vector<PathMap> maps;
  for (const std::string& text : arguments.values("map")) {
    const std::size_t sign = text.find('=');
    const std::optional<TreePath> from = TreePath::parse(text.substr(0, sign));
    const std::optional<TreePath> to =
        sign == std::string::npos ? std::nullopt : TreePath::parse(text.substr(sign + 1));
    if (!from || !to || !text.starts_with('/') || text[sign + 1] != '/')
      throw Error(ErrorKind::usage, "--map '" + printable(text) + "' does not say from where to where",
                  "write it like /home/anna=/home/a.berg: both from the root");
    maps.push_back({*from, *to});
  }
  return maps;
}

RestoreRequest restore_request(const Arguments& arguments) {
  RestoreRequest request;
  for (std::size_t i = 1; i < arguments.words().size(); ++i) {
    request.paths.push_back(wanted_path(arguments.words()[i]));
  }
  for (const std::string& text : arguments.values("without")) request.without.push_back(wanted_path(text));
  take_target(arguments, request);
  request.clash = choice(arguments, "clash", Clash::keep_both, parse_clash);
  request.layout = choice(arguments, "layout", Layout::picked, parse_layout);
  request.map = path_maps(arguments);
  if (!request.map.empty() && !request.in_place && request.layout != Layout::path)
    throw Error(ErrorKind::usage, "--map is about whole paths, and files are not put under those here",
                "add --in-place, or --layout path");
  request.nearest = arguments.has("nearest");
  request.digests = arguments.has("list");
  request.with_set_id = arguments.has("with-set-id");
  request.owners = choice(arguments, "owners", OwnersAs::names, parse_owners);
  request.devices = arguments.has("devices");
  if (request.devices && !request.in_place)
    throw Error(ErrorKind::usage, "--devices writes images back over their devices and needs --in-place",
                "with --to DIR an image is restored as a file");
  request.with_owners = arguments.has("with-owners");
  request.owner = owner_of(arguments);
  if (request.owner && arguments.has("owners"))
    throw Error(ErrorKind::usage, "--owner gives all files to one account, and --owners to whoever had them",
                "give one of them");
  request.dry = arguments.has("dry");
  return request;
}

}  // namespace kestrum
