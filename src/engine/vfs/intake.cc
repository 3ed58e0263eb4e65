#include "engine/vfs/intake.h"

#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/vfs/files.h"
#include "engine/vfs/namespace.h"

namespace pargeter {

Result<std::uint64_t> Intake::Replace(NodeId id, std::uint64_t known, const StagedFile& staged) {
  PG_TRY(facts_.CheckWritable());
  PG_ASSIGN(const OpenedFile opened, files_.OpenKnown(id, true));
  const auto same = [&]() -> Status {
    View view(&tree_);
    PG_ASSIGN(const Inode* inode, view.Get(id));
    if (!inode->node.gone() && inode->node.generation == known) return {};
    return Error(Code::kStale, "the file has another content by now");
  }();
  // (the content of an open file is not replaced under its writer: JournalWriting refuses it)
  Result<std::uint64_t> adopted =
      same.ok() ? Adopt(opened.file, staged) : Result<std::uint64_t>(same.error());
  files_.Release(opened.file);
  return adopted;
}

Result<NodeState> Intake::Create(NodeId parent, const std::string& name, const StagedFile& staged,
                                 const std::string& conflicts_with) {
  PG_ASSIGN(const OpenedFile opened, files_.Create(parent, name, staged.mode, options_.uid,
                                                   options_.gid, true, OpenIntent::kWrite));
  auto adopted = Adopt(opened.file, staged);
  files_.Release(opened.file);
  names_.Forget(opened.attr.id, 1);
  if (!adopted.ok()) {
    Ignore(names_.Unlink(parent, name));  // nothing of it is at the store
    return adopted.error();
  }
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(opened.attr.id));
  if (!conflicts_with.empty()) {
    inode->node.conflict_copy = {true, conflicts_with};
    PG_TRY(view.Save(inode));
  }
  NodeState state;
  state.node = inode->node;
  return state;
}

Result<std::string> Intake::ConflictName(NodeId parent, const std::string& name) {
  View view(&tree_);
  return facts_.ConflictCopyName(view, parent, name);
}

Result<std::optional<bool>> Intake::CompareWithVersion(NodeId id, int fd) {
  class FileSource : public WriteSource {
   public:
    FileSource(int fd, std::uint64_t size, Disk* disk) : fd_(fd), size_(size), disk_(*disk) {}
    std::uint64_t Size() const override { return size_; }
    Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) override {
      return disk_.ReadAt(fd_, data, size, offset);
    }

   private:
    const int fd_;
    const std::uint64_t size_;
    Disk& disk_;
  };
  Node node;
  {
    View view(&tree_);
    PG_ASSIGN(const Inode* inode, view.Get(id));
    node = inode->node;
  }
  const auto check = node.dirty & kData ? nullptr : store_->CheckOf(node.remote.version, node.size);
  if (!check) return std::optional<bool>();
  FileSource source(fd, node.size, options_.disk);
  const ContentCheck::Verdict verdict = JudgeAll(check.get(), &source);
  if (verdict == ContentCheck::Verdict::kUnknown) return std::optional<bool>();
  return std::optional(verdict == ContentCheck::Verdict::kRight);
}

Result<std::uint64_t> Intake::Adopt(const OpenFilePtr& file, const StagedFile& staged) {
  {
    PG_ASSIGN(const WritingMark mark, contents_.BeginWriting(file));
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(file->id));
    PG_TRY(contents_.TakeFile(view, inode, staged));
  }
  PG_TRY(contents_.FlushContent(file, false));
  View view(&tree_);
  PG_ASSIGN(const Inode* inode, view.Get(file->id));
  return inode->node.generation;
}

}  // namespace pargeter
