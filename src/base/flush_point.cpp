#include "base/flush_point.hpp"

namespace kestrum {

#ifdef KESTRUM_FLUSH_SWITCH
namespace {
std::string left_out;
}
bool flush_point(const char* name) {
  return left_out != name;
}
void leave_out_flush(const std::string& name) {
  left_out = name;
}
#else
bool flush_point(const char*) {
  return true;
}
void leave_out_flush(const std::string&) {}
#endif

}  // namespace kestrum
