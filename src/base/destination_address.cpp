#include "base/destination_address.hpp"

#include <algorithm>
#include <cctype>

namespace kestrum {

DestinationAddress DestinationAddress::parse(std::string_view text) {
  DestinationAddress address;
  if (text.starts_with("label:")) address.by = By::label;
  if (text.starts_with("uuid:")) address.by = By::uuid;
  if (!address.names_drive()) {
    address.folder = text;
    return address;
  }
  text.remove_prefix(text.find(':') + 1);
  address.drive = text.substr(0, text.find('/'));
  address.folder = text.substr(address.drive.size());
  if (address.by == By::uuid)
    std::transform(address.drive.begin(), address.drive.end(), address.drive.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return address;
}

}  // namespace kestrum
