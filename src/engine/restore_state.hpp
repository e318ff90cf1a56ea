// What the parts of one restore share.
#pragma once

#include <functional>
#include <map>

#include "engine/restore.hpp"

namespace kestrum {

class RestoreState {
 public:
  // References must outlive this.
  RestoreState(OpenPoint& open_point, const RestoreRequest& asked, Observer& watching, RunControl& steering,
               const std::function<void(const RestoredItem&)>& each);

  OpenPoint& point;  // that was asked for
  const RestoreRequest& request;
  Observer& observer;
  RunControl& control;
  const std::function<void(const RestoredItem&)>& item;
  std::string stamp;  // of the point that is read from, fit for a file's name
  RestoreResult result;

  // What is given to a sink comes from here.
  PointReader& reader() const { return source_->reader(); }
  OpenPoint& source() const { return *source_; }
  void read_from(OpenPoint& source);

  // Owners, set-id bits and device nodes come back.
  bool trusts() const { return source_->authenticated() || request.with_owners; }
  void problem(const TreePath& path, const std::string& operation, const std::string& reason);
  // Counts it and tells of it; `placed` as it is below the target.
  void done(const Entry& entry, const TreePath& placed, RestoreFate fate, std::string sha256 = {});
  void tell(const Entry& entry, const TreePath& placed, RestoreFate fate, std::string sha256 = {});
  // Of the content of a file, where the digests are wanted and it was not read anyway.
  std::string digest_of(const Entry& entry);
  // Something of it that the target could not keep; gathered.
  void lose(const TreePath& path, const std::string& operation, const std::string& reason);
  // What is there belongs already to whom the restore would give it.
  bool has_its_owner(const Entry& entry, std::uint32_t user, std::uint32_t group);
  // As the request wants them; what does not read is a problem.
  FileAttributes attributes_of(const Entry& entry);
  // Gives an object its attributes; what the target cannot keep is gathered.
  void apply(const Entry& entry, const TargetObject& object);
  // What was gathered as problems: one for each thing lost, with how many files it concerns.
  void tell_losses();

 private:
  struct Loss {
    TreePath first;
    std::uint64_t count = 0;
  };
  void hold_back(FileAttributes& attributes);
  OpenPoint* source_;
  OwnerNumbers owners_;
  std::map<std::pair<std::string, std::string>, Loss> losses_;  // by operation and reason
};

// Throws full where there is no space left, failed for any other errno but 0.
void check_target(int code, const char* what, const RestoreRequest& request);

}  // namespace kestrum
