#include "archive/closing_frame.hpp"

namespace kestrum {

FrameContent closing_frame(const Id& set, const Root& root) {
  ByteWriter closing;
  closing.u8(1);
  closing.raw(set);
  closing.raw(encode_root(root));
  return {FrameKind::closing, {}, closing.take()};
}

}  // namespace kestrum
