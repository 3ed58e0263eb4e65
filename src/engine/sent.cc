#include "engine/sent.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>
#include <vector>

#include "base/text.h"
#include "engine/drive.h"

namespace pargeter {

namespace {

constexpr std::size_t kRemembered = 8;

std::vector<std::string> Marks(const std::string& upload) {
  if (upload.empty() || upload[0] != '=') return {};
  return Split(upload.substr(1, upload.find('\n') - 1), ',');
}

class DigestSink : public ReadSink {
 public:
  Status Begin(const Entry&) override {
    md5_.Reset();
    return {};
  }
  Status Write(std::string_view data) override {
    md5_.Update(data);
    return {};
  }
  std::string Finish() { return md5_.Finish(); }

 private:
  Md5Stream md5_;
};

}  // namespace

std::string PlaceIn(NodeId folder, const std::string& key) {
  return fmt::format("{}/{}", folder, key);
}

bool SentTo(const std::string& upload, const std::string& place) {
  return !upload.empty() && upload[0] == '=' && upload.substr(upload.find('\n') + 1) == place;
}

std::string BytesMark(std::uint64_t size, const std::string& digest) {
  return fmt::format("{}:{}", size, Hex(digest));
}

std::string TimeMark(std::uint64_t size, Nanos mtime) {
  return fmt::format("{}@{}", size, mtime / 1'000'000'000);
}

std::string WithSent(const std::string& upload, const std::string& place, const std::string& mark) {
  std::vector<std::string> marks;
  if (SentTo(upload, place)) marks = Marks(upload);
  std::erase(marks, mark);
  marks.push_back(mark);
  if (marks.size() > kRemembered) marks.erase(marks.begin());
  std::string out;
  for (const std::string& one : marks) out += (out.empty() ? "=" : ",") + one;
  return out + "\n" + place;
}

Result<std::size_t> SentSource::Read(char* data, std::size_t size, std::uint64_t offset) {
  PG_ASSIGN(const std::size_t n, source_.Read(data, size, offset));
  if (offset == 0 && at_ != 0) {  // once more from the start
    md5_.Reset();
    at_ = 0;
  }
  if (offset != at_ || n == 0) return n;
  md5_.Update({data, n});
  at_ += n;
  if (at_ == Size()) PG_TRY(tell_(md5_.Finish()));
  return n;
}

Result<bool> Drive::WasSent(const Node& node, const std::string& place, const std::string& path,
                            const Entry& there, const Cancel& cancel) {
  if (there.kind == Kind::kFolder || !SentTo(node.upload, place)) return false;
  const std::vector<std::string> marks = Marks(node.upload);
  const auto among = [&marks](const std::string& mark) {
    return std::find(marks.begin(), marks.end(), mark) != marks.end();
  };
  if (there.attributes.mtime && among(TimeMark(there.size, *there.attributes.mtime))) return true;
  const std::string so_long = std::to_string(there.size) + ":";
  if (std::none_of(marks.begin(), marks.end(),
                   [&](const std::string& mark) { return mark.rfind(so_long, 0) == 0; }))
    return false;
  DigestSink sink;
  if (there.size > 0) {
    const Status read = provider_->Read(path, there.version, 0, there.size, &sink, cancel);
    if (!read.ok() && (read.error().code == Code::kChanged || read.error().code == Code::kNotFound))
      return false;
    if (!read.ok()) return read.error();
  } else {
    PG_TRY(sink.Begin(there));
  }
  return among(BytesMark(there.size, sink.Finish()));
}

}  // namespace pargeter
