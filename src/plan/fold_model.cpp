#include "plan/fold_model.hpp"

#include <algorithm>
#include <cmath>

namespace kestrum {
namespace {

// As in archive/fold and archive/set_writer.
constexpr double least_of_frame = 0.5, least_of_volume = 0.75, least_when_pressed = 0.85;
constexpr double frame_bytes = 4 << 20;
constexpr double large_volume = 64 << 20, seals = 512 << 10;
constexpr std::size_t most_parts = 12;

double items_in_a_frame(double bytes, double item) {
  return std::clamp(std::min(frame_bytes, bytes) / std::max(item, 1.0), 1.0, 64.0);
}

// Of frames with so many items each, of which each is needed with that probability: the share that is copied
// as it is, and how much of all items is needed in those.
struct WholeFrames {
  double share = 0, needed = 0;
};
WholeFrames whole_frames(double items, double alive) {
  if (alive >= 1) return {1, 1};
  const auto count = static_cast<unsigned>(std::lround(items));
  WholeFrames out;
  double chance = std::pow(1 - alive, count);  // that k of them are, from k = 0
  for (unsigned k = 0; k <= count; ++k) {
    double part = static_cast<double>(k) / count;
    if (k > 0 && part >= least_of_frame) {
      out.share += chance;
      out.needed += chance * part;
    }
    chance *= static_cast<double>(count - k) / (k + 1) * alive / (1 - alive);
  }
  return out;
}

// Parts that are most alike count as one.
void tidy(std::vector<StoredPart>& parts) {
  std::erase_if(parts, [](const StoredPart& part) { return part.stored < 1; });
  std::sort(parts.begin(), parts.end(),
            [](const StoredPart& a, const StoredPart& b) { return a.alive < b.alive; });
  while (parts.size() > most_parts) {
    std::size_t best = 1;
    for (std::size_t i = 2; i < parts.size(); ++i) {
      if (parts[i].alive - parts[i - 1].alive < parts[best].alive - parts[best - 1].alive) best = i;
    }
    StoredPart& a = parts[best - 1];
    const StoredPart& b = parts[best];
    double all = a.written + b.written;
    a.alive = (a.alive * a.written + b.alive * b.written) / all;
    a.items = (a.items * a.written + b.items * b.written) / all;
    a.written = all;
    a.stored += b.stored;
    a.needed += b.needed;
    parts.erase(parts.begin() + static_cast<std::ptrdiff_t>(best));
  }
}

}  // namespace

StoredContent::StoredContent(double bytes, double item)
    : volumes_{{{{bytes, 1, bytes, bytes, items_in_a_frame(bytes, item)}}}} {}

StoredContent::StoredContent(double bytes, double needed, double item) : StoredContent(bytes, item) {
  if (needed < bytes) lose(1 - needed / bytes);
}

double StoredVolume::stored() const {
  double sum = 0;
  for (const StoredPart& part : parts) sum += part.stored;
  return sum;
}

double StoredVolume::needed() const {
  double sum = 0;
  for (const StoredPart& part : parts) sum += part.needed;
  return sum;
}

double StoredContent::stored() const {
  double sum = 0;
  for (const StoredVolume& volume : volumes_) sum += volume.stored();
  return sum;
}

double StoredContent::needed() const {
  double sum = 0;
  for (const StoredVolume& volume : volumes_) sum += volume.needed();
  return sum;
}

void StoredContent::lose(double share) {
  for (StoredVolume& volume : volumes_) {
    for (StoredPart& part : volume.parts) {
      part.alive *= 1 - share;
      part.needed *= 1 - share;
    }
  }
}

// Large volumes of which most is needed stay as they lie; where there is no room to write the others again,
// more of them, those first of which most is needed. `before`: bytes of all.
std::vector<bool> StoredContent::kept_within(double before, double room) const {
  std::vector<bool> kept;
  std::vector<std::size_t> others;
  for (const StoredVolume& volume : volumes_) {
    bool large = volume.stored() >= std::min(large_volume, before / 4);
    kept.push_back(large && volume.needed() >= volume.stored() * least_of_volume);
    if (!kept.back() && volume.needed() > 0) others.push_back(kept.size() - 1);
  }
  auto share = [this](std::size_t i) { return volumes_[i].needed() / std::max(volumes_[i].stored(), 1.0); };
  std::stable_sort(others.begin(), others.end(),
                   [&](std::size_t a, std::size_t b) { return share(a) > share(b); });
  for (std::size_t i : others) {
    if (writes(kept) <= room) break;
    kept[i] = true;
  }
  return kept;
}

// At most: frames that are copied, what is packed anew, and the seals.
double StoredContent::writes(const std::vector<bool>& kept) const {
  double bytes = seals;
  for (std::size_t i = 0; i < volumes_.size(); ++i) {
    for (const StoredPart& part : volumes_[i].parts) {
      if (kept[i]) continue;
      WholeFrames whole = whole_frames(part.items, part.alive);
      bytes += part.written * whole.share + std::max(part.needed - part.written * whole.needed, 0.0);
    }
  }
  return bytes;
}

// Frames of which half is needed are copied as they are, and what is needed of the rest is packed anew.
void StoredContent::write_again(const std::vector<bool>& kept, double item) {
  StoredVolume again;
  std::vector<StoredVolume> out;
  double anew = 0;
  for (std::size_t i = 0; i < volumes_.size(); ++i) {
    if (kept[i]) {
      out.push_back(std::move(volumes_[i]));
      continue;
    }
    for (StoredPart part : volumes_[i].parts) {
      WholeFrames whole = whole_frames(part.items, part.alive);
      double needed = std::min(part.written * whole.needed, part.needed);
      anew += part.needed - needed;
      part.stored = std::min(part.written * whole.share, part.stored);
      part.needed = needed;
      again.parts.push_back(part);
    }
  }
  if (anew > 0) again.parts.push_back({anew, 1, anew, anew, items_in_a_frame(anew, item)});
  tidy(again.parts);
  if (!again.parts.empty()) out.push_back(std::move(again));
  volumes_ = std::move(out);
}

// Where less comes free than is wanted, what is needed of more volumes is written again, as far as there is
// room: on the drive they are many, of which any part can be taken.
void StoredContent::press(double before, const FoldSpace& space, double item, double& takes) {
  double anew = 0;
  for (StoredVolume& volume : volumes_) {
    const double stored = volume.stored(), needed = volume.needed(), waste = stored - needed;
    const double lacks = space.wanted - (before - this->stored() - anew), room = space.free - takes;
    if (lacks <= 0 || room <= 0 || needed <= 0 || needed >= stored * least_when_pressed) continue;
    const double part = std::min({1.0, lacks / waste, room / needed});
    anew += part * needed;
    takes += part * needed;
    for (StoredPart& one : volume.parts) {
      one.written *= 1 - part;
      one.stored *= 1 - part;
      one.needed *= 1 - part;
    }
  }
  if (anew > 0) volumes_.push_back({{{anew, 1, anew, anew, items_in_a_frame(anew, item)}}});
}

bool StoredContent::fold(const std::vector<const StoredContent*>& sets, double needed, const FoldSpace& room,
                         double item, double& takes) {
  double all = 0, before = 0;
  for (const StoredContent* set : sets) {
    all += set->needed();
    before += set->stored();
  }
  const double newest = sets.back()->needed(), older = all - newest;
  const double lost = older <= 0 ? 0 : std::clamp((all - needed) / older, 0.0, 1.0);
  StoredContent out;
  for (const StoredContent* set : sets) {
    StoredContent one = *set;
    if (set != sets.back()) one.lose(lost);
    out.volumes_.insert(out.volumes_.end(), one.volumes_.begin(), one.volumes_.end());
  }
  std::vector<bool> kept = out.kept_within(before, room.within);
  if (out.writes(kept) > room.within && room.within < room.free) kept = out.kept_within(before, room.free);
  takes = out.writes(kept);
  out.write_again(kept, item);
  out.press(before, room, item, takes);
  if (takes > room.free || (takes > room.within && out.stored() >= before)) return false;
  *this = std::move(out);
  return true;
}

}  // namespace kestrum
