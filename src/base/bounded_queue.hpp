// A queue with a limit between two threads; `close` lets the reader drain and then end.
#pragma once

#include <condition_variable>
#include <deque>
#include <mutex>
#include <optional>

namespace kestrum {

// Any number of threads on both sides.
template <typename T>
class BoundedQueue {
 public:
  explicit BoundedQueue(std::size_t limit) : limit_(limit) {}

  // Waits for room. False when the queue was closed: the item is dropped.
  bool push(T item) {
    std::unique_lock lock(mutex_);
    room_.wait(lock, [&] { return items_.size() < limit_ || closed_; });
    if (closed_) return false;
    items_.push_back(std::move(item));
    ready_.notify_one();
    return true;
  }

  // Waits for an item; nothing once closed and empty.
  std::optional<T> pop() {
    std::unique_lock lock(mutex_);
    ready_.wait(lock, [&] { return !items_.empty() || closed_; });
    if (items_.empty()) return std::nullopt;
    T item = std::move(items_.front());
    items_.pop_front();
    room_.notify_one();
    return item;
  }

  void close() {
    std::lock_guard lock(mutex_);
    closed_ = true;
    ready_.notify_all();
    room_.notify_all();
  }

 private:
  std::size_t limit_;
  std::mutex mutex_;
  std::condition_variable ready_;
  std::condition_variable room_;
  std::deque<T> items_;
  bool closed_ = false;
};

}  // namespace kestrum
