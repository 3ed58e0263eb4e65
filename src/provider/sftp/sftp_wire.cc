#include "provider/sftp/sftp_wire.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace pargeter::sftp {
namespace {

constexpr std::uint32_t kVersion3 = 3;
constexpr std::uint32_t kLargestPacket = 4u << 20;  // whatever is larger is no answer to us
constexpr Duration kStall(60000);                   // so long nothing at all may come

enum Flags : std::uint32_t {
  kSize = 1,
  kOwner = 2,
  kPermissions = 4,
  kTimes = 8,
  kMore = 0x80000000
};

}  // namespace

std::string_view Reader::Text() {
  const std::uint32_t size = U32();
  if (!good_ || size > rest_.size()) {
    good_ = false;
    return {};
  }
  const std::string_view out = rest_.substr(0, size);
  rest_.remove_prefix(size);
  return out;
}

std::uint64_t Reader::Take(std::size_t size) {
  if (!good_ || size > rest_.size()) {
    good_ = false;
    return 0;
  }
  std::uint64_t n = 0;
  for (std::size_t i = 0; i < size; ++i) n = n << 8 | static_cast<unsigned char>(rest_[i]);
  rest_.remove_prefix(size);
  return n;
}

FileAttributes ReadAttributes(Reader* in) {
  FileAttributes a;
  const std::uint32_t flags = in->U32();
  if (flags & kSize) a.size = in->U64();
  if (flags & kOwner) {
    a.uid = in->U32();
    a.gid = in->U32();
  }
  if (flags & kPermissions) a.permissions = in->U32();
  if (flags & kTimes) {
    in->U32();
    a.mtime = in->U32();
  }
  if (flags & kMore) {
    const std::uint32_t pairs = in->U32();
    for (std::uint32_t i = 0; i < pairs && in->good(); ++i) {
      in->Text();
      in->Text();
    }
  }
  return a;
}

void WriteAttributes(const FileAttributes& a, Writer* out) {
  out->U32((a.permissions ? kPermissions : 0u) | (a.mtime ? kTimes : 0u));
  if (a.permissions) out->U32(*a.permissions & 07777);
  if (a.mtime) out->U32(*a.mtime).U32(*a.mtime);
}

Result<std::vector<NamedFile>> ReadNames(std::string_view body) {
  Reader in(body);
  const std::uint32_t count = in.U32();
  std::vector<NamedFile> out;
  for (std::uint32_t i = 0; i < count && in.good(); ++i) {
    NamedFile file;
    file.name = in.Text();
    in.Text();  // a line for people
    file.attributes = ReadAttributes(&in);
    if (in.good()) out.push_back(std::move(file));
  }
  if (!in.good()) return Error(Code::kDamaged, "the server's list of names breaks off");
  return out;
}

Error ErrorOfStatus(std::uint32_t status, std::string_view words, std::string_view what) {
  struct Row {
    std::uint32_t status;
    Code code;
    std::string_view why;
  };
  static constexpr Row kRows[] = {{1, Code::kDamaged, "the file ended early"},
                                  {2, Code::kNotFound, "it is not there"},
                                  {3, Code::kPermission, "the server does not allow it"},
                                  {4, Code::kStoreFault, "the server could not do it"},
                                  {5, Code::kInternal, "the server did not understand the request"},
                                  {6, Code::kUnavailable, "the server has no connection"},
                                  {7, Code::kUnavailable, "the connection was lost"},
                                  {8, Code::kUnsupported, "the server cannot do that"}};
  for (const Row& row : kRows) {
    if (row.status != status) continue;
    const bool more = row.code == Code::kStoreFault && !words.empty() && words != "Failure";
    return Error(row.code,
                 fmt::format("{}: {}{}", what, row.why,
                             more ? fmt::format(" ({})", Printable(words).substr(0, 200)) : ""));
  }
  return Error(Code::kStoreFault, fmt::format("{}: the server answers {}", what, status));
}

Result<std::unique_ptr<Wire>> Wire::Open(const SshOptions& options, Heard heard,
                                         const Cancel& cancel) {
  PG_ASSIGN(auto channel, SshChannel::Open(options, cancel));
  auto wire = std::unique_ptr<Wire>(new Wire(std::move(channel), std::move(heard)));
  wire->WatchFor(cancel);
  PG_TRY(wire->Begin());
  wire->WatchFor(nullptr);
  return wire;
}

Status Wire::Begin() {
  Writer hello;
  hello.U32(5).U8(static_cast<std::uint8_t>(Type::kInit)).U32(kVersion3);
  PG_TRY(channel_->Send(hello.bytes()));
  PG_ASSIGN(auto first, Receive());
  if (first.second.type != Type::kVersion || first.first < kVersion3)
    return Error(Code::kUnsupported, "the server speaks no version of SFTP that is known here");
  Reader in(first.second.body);
  while (in.good() && in.left() > 0) {
    const std::string_view name = in.Text(), value = in.Text();
    if (in.good()) extensions_.emplace(name, value);
  }
  if (!Offers("limits@openssh.com")) return {};
  const auto limits = Ask(Type::kExtended, Writer().Text("limits@openssh.com").bytes(),
                          Type::kExtendedReply, "limits");
  if (!limits.ok()) return broken_ ? Status(limits.error()) : Status();
  Reader numbers(*limits);
  numbers.U64();  // a packet's size
  const std::uint64_t read = numbers.U64(), write = numbers.U64();
  const auto within = [](std::uint64_t n) {
    return static_cast<std::uint32_t>(std::clamp<std::uint64_t>(n, 32768, 256 * 1024));
  };
  if (numbers.good()) {
    read_size_ = within(read);
    write_size_ = within(write);
  }
  return {};
}

Result<std::pair<std::uint32_t, Answer>> Wire::Receive() {
  const auto damaged = [this] {
    broken_ = true;
    return Error(Code::kUnavailable, "the server's answer is no SFTP packet");
  };
  char head[9];
  if (const Status got = channel_->Receive(head, 9, kStall); !got.ok()) {
    broken_ = true;
    return got.error();
  }
  Reader in(std::string_view(head, 9));
  const std::uint32_t size = in.U32();
  const auto type = static_cast<Type>(in.U8());
  const std::uint32_t number = in.U32();
  if (size < 5 || size > kLargestPacket) return damaged();
  Answer answer;
  answer.type = type;
  answer.body.resize(size - 5);
  if (const Status got = channel_->Receive(answer.body.data(), answer.body.size(), kStall);
      !got.ok()) {
    broken_ = true;
    return got.error();
  }
  last_sign_ = std::chrono::steady_clock::now();
  heard_->store(last_sign_);
  return std::make_pair(number, std::move(answer));
}

Result<Wire::Number> Wire::Post(Type type, std::string_view body) {
  Writer packet;
  packet.U32(static_cast<std::uint32_t>(body.size() + 5))
      .U8(static_cast<std::uint8_t>(type))
      .U32(++last_);
  std::string bytes = packet.bytes();
  bytes += body;
  if (const Status sent = channel_->Send(bytes); !sent.ok()) {
    broken_ = true;
    return sent.error();
  }
  return last_;
}

Result<Answer> Wire::Await(Number number) {
  for (;;) {
    if (const auto it = early_.find(number); it != early_.end()) {
      Answer answer = std::move(it->second);
      early_.erase(it);
      return answer;
    }
    PG_ASSIGN(auto next, Receive());
    if (next.first > last_ || early_.size() > 100000) {
      broken_ = true;
      return Error(Code::kUnavailable, "the server answers what nobody asked");
    }
    early_[next.first] = std::move(next.second);
  }
}

Result<std::string> Wire::AwaitBody(Number number, Type want, std::string_view what) {
  PG_ASSIGN(Answer answer, Await(number));
  if (answer.type == want) return std::move(answer.body);
  if (answer.type != Type::kStatus) {
    broken_ = true;
    return Error(Code::kUnavailable, fmt::format("{}: the server answers something else", what));
  }
  Reader in(answer.body);
  const std::uint32_t status = in.U32();
  const std::string_view words = in.Text();
  if (status == 0) {
    broken_ = true;
    return Error(Code::kUnavailable, fmt::format("{}: the server's answer is empty", what));
  }
  return ErrorOfStatus(status, words, what);
}

Status Wire::AwaitDone(Number number, std::string_view what) {
  PG_ASSIGN(const Answer answer, Await(number));
  Reader in(answer.body);
  const std::uint32_t status = in.U32();
  if (answer.type == Type::kStatus && status == 0 && in.good()) return {};
  if (answer.type != Type::kStatus || !in.good()) {
    broken_ = true;
    return Error(Code::kUnavailable, fmt::format("{}: the server answers something else", what));
  }
  return ErrorOfStatus(status, in.Text(), what);
}

Result<std::string> Wire::Ask(Type type, std::string_view body, Type want, std::string_view what) {
  PG_ASSIGN(const Number number, Post(type, body));
  return AwaitBody(number, want, what);
}

Status Wire::Do(Type type, std::string_view body, std::string_view what) {
  PG_ASSIGN(const Number number, Post(type, body));
  return AwaitDone(number, what);
}

}  // namespace pargeter::sftp
