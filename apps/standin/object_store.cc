#include "object_store.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/digest.h"
#include "base/random.h"
#include "base/text.h"

namespace pargeter::standin {
namespace {

constexpr std::size_t kInline = 64u << 10;
using Json = nlohmann::json;

// Keys may hold any bytes, JSON strings may not.
std::string KeyText(const std::string& key) { return Hex(key); }
std::string KeyBytes(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i + 1 < text.size(); i += 2) {
    out += static_cast<char>(std::stoi(text.substr(i, 2), nullptr, 16));
  }
  return out;
}

}  // namespace

Body::~Body() {
  if (owned && !file.empty()) ::unlink(file.c_str());
}

ObjectStore::ObjectStore(std::string folder) : folder_(std::move(folder)) {
  if (folder_.empty()) {
    temporary_ = true;
    folder_ =
        (std::filesystem::temp_directory_path() / ("pargeter-standin-" + RandomName())).string();
  }
}

ObjectStore::~ObjectStore() {
  {
    const Lock lock(mutex_);
    for (auto& [bucket, keys] : buckets_) {
      // what is kept for the next start must not go with its last user
      for (auto& [key, object] : keys) const_cast<Body&>(*object.body).owned = temporary_;
    }
    buckets_.clear();
    uploads_.clear();
  }
  std::error_code ec;
  if (temporary_) std::filesystem::remove_all(folder_, ec);
}

Status ObjectStore::Load() {
  PG_TRY(MakeFolders(folder_ + "/bodies"));
  const std::string path = folder_ + "/journal";
  const Lock lock(mutex_);
  if (!temporary_) {
    auto text = ReadFile(path, 4ull << 30);
    if (!text.ok() && text.error().code != Code::kNotFound) return text.error();
    for (const std::string& line : Split(text.ok() ? *text : "", '\n')) {
      const Json entry = Json::parse(line, nullptr, false);
      if (entry.is_discarded()) continue;  // a last line cut by a crash
      auto& bucket = buckets_[entry.value("bucket", "")];
      if (!entry.contains("key")) continue;
      const std::string key = KeyBytes(entry.value("key", ""));
      if (entry.value("gone", false)) {
        bucket.erase(key);
        continue;
      }
      auto body = std::make_shared<Body>();
      body->size = entry.value("size", std::uint64_t{0});
      body->bytes = KeyBytes(entry.value("bytes", ""));
      body->file =
          entry.value("file", "").empty() ? "" : folder_ + "/bodies/" + entry.value("file", "");
      body->owned = true;
      Object object{body, entry.value("etag", ""), entry.value("modified", Nanos{0}), {}};
      object.metadata = entry.value("metadata", std::map<std::string, std::string>{});
      bucket[key] = std::move(object);
    }
  }
  PG_ASSIGN(journal_, RealDisk().Open(path, O_WRONLY | O_CREAT));
  journal_end_ = static_cast<std::uint64_t>(::lseek(journal_.get(), 0, SEEK_END));
  return {};
}

void ObjectStore::Journal(const std::string& line) {
  if (temporary_) return;
  Ignore(RealDisk().WriteAt(journal_.get(), line + "\n", journal_end_));
  journal_end_ += line.size() + 1;
}

std::string ObjectStore::NewFile() { return folder_ + "/bodies/" + RandomName(); }

Status ObjectStore::Writer::Append(std::string_view data) {
  size_ += data.size();
  if (!fd_ && bytes_.size() + data.size() <= kInline) {
    bytes_ += data;
    return {};
  }
  if (!fd_) {
    path_ = store_->NewFile();
    PG_ASSIGN(fd_, RealDisk().Open(path_, O_RDWR | O_CREAT | O_EXCL));
    PG_TRY(RealDisk().WriteAt(fd_.get(), bytes_, 0));
    const std::uint64_t at = bytes_.size();
    bytes_.clear();
    return RealDisk().WriteAt(fd_.get(), data, at);
  }
  return RealDisk().WriteAt(fd_.get(), data, size_ - data.size());
}

Result<std::shared_ptr<const Body>> ObjectStore::Writer::Finish() {
  auto body = std::make_shared<Body>();
  body->size = size_;
  body->bytes = std::move(bytes_);
  body->file = path_;
  body->owned = true;
  return std::shared_ptr<const Body>(std::move(body));
}

Result<std::string> ReadBody(const Body& body, std::uint64_t offset, std::uint64_t size) {
  if (offset >= body.size) return std::string();
  size = std::min(size, body.size - offset);
  if (body.file.empty()) {
    if (body.bytes.size() < body.size) return std::string(size, '\0');  // filled with zeros
    return body.bytes.substr(offset, size);
  }
  PG_ASSIGN(const Fd fd, RealDisk().Open(body.file, O_RDONLY));
  std::string out(size, '\0');
  PG_ASSIGN(const std::size_t n, RealDisk().ReadAt(fd.get(), out.data(), size, offset));
  out.resize(n);
  return out;
}

Result<std::shared_ptr<const Body>> ObjectStore::Join(
    const std::vector<std::shared_ptr<const Body>>& bodies) {
  Writer writer(this);
  for (const auto& body : bodies) {
    for (std::uint64_t at = 0; at < body->size; at += 4u << 20) {
      PG_ASSIGN(const std::string piece, ReadBody(*body, at, 4u << 20));
      PG_TRY(writer.Append(piece));
    }
  }
  return writer.Finish();
}

std::vector<std::string> ObjectStore::Buckets() const {
  const Lock lock(mutex_);
  std::vector<std::string> names;
  for (const auto& [name, keys] : buckets_) names.push_back(name);
  return names;
}

bool ObjectStore::HasBucket(const std::string& bucket) const {
  const Lock lock(mutex_);
  return buckets_.count(bucket) > 0;
}

void ObjectStore::MakeBucket(const std::string& bucket) {
  const Lock lock(mutex_);
  if (buckets_.try_emplace(bucket).second) Journal(Json{{"bucket", bucket}}.dump());
}

std::optional<Object> ObjectStore::Get(const std::string& bucket, const std::string& key) const {
  const Lock lock(mutex_);
  const auto b = buckets_.find(bucket);
  if (b == buckets_.end()) return std::nullopt;
  const auto k = b->second.find(key);
  if (k == b->second.end()) return std::nullopt;
  return k->second;
}

Status ObjectStore::Put(const std::string& bucket, const std::string& key, Object object,
                        const Condition& if_) {
  const Lock lock(mutex_);
  auto& keys = buckets_[bucket];
  const auto there = keys.find(key);
  const Error refused(Code::kChanged, "the condition does not hold");
  if (if_.if_none_match && there != keys.end()) return refused;
  if (if_.if_match &&
      (there == keys.end() || (*if_.if_match != "*" && *if_.if_match != there->second.etag))) {
    return refused;
  }
  if (!temporary_) {
    Json entry{{"bucket", bucket},    {"key", KeyText(key)},         {"size", object.body->size},
               {"etag", object.etag}, {"modified", object.modified}, {"metadata", object.metadata}};
    if (object.body->file.empty()) {
      entry["bytes"] = Hex(object.body->bytes);
    } else {
      entry["file"] = std::filesystem::path(object.body->file).filename().string();
    }
    Journal(entry.dump(-1, ' ', false, Json::error_handler_t::replace));
  }
  keys[key] = std::move(object);
  return {};
}

Status ObjectStore::Delete(const std::string& bucket, const std::string& key,
                           const Condition& if_) {
  const Lock lock(mutex_);
  const auto b = buckets_.find(bucket);
  if (b == buckets_.end()) return {};
  const auto there = b->second.find(key);
  if (there == b->second.end()) return {};
  if (if_.if_match && *if_.if_match != "*" && *if_.if_match != there->second.etag)
    return Error(Code::kChanged, "the condition does not hold");
  b->second.erase(there);
  Journal(Json{{"bucket", bucket}, {"key", KeyText(key)}, {"gone", true}}.dump());
  return {};
}

ListAnswer ObjectStore::List(const std::string& bucket, const ListRequest& request) const {
  ListAnswer answer;
  const Lock lock(mutex_);
  const auto b = buckets_.find(bucket);
  if (b == buckets_.end()) return answer;
  const auto& keys = b->second;
  auto it = request.after.empty() ? keys.lower_bound(request.prefix)
                                  : keys.upper_bound(std::max(request.after, request.prefix));
  if (request.after < request.prefix) it = keys.lower_bound(request.prefix);
  std::string last;
  while (it != keys.end() && it->first.compare(0, request.prefix.size(), request.prefix) == 0) {
    if (answer.keys.size() + answer.prefixes.size() >= request.max_keys) {
      answer.next_after = last;
      break;
    }
    const auto cut = request.delimiter.empty()
                         ? std::string::npos
                         : it->first.find(request.delimiter, request.prefix.size());
    if (cut == std::string::npos) {
      answer.keys.emplace_back(it->first, it->second);
      last = it->first;
      ++it;
    } else {
      std::string common = it->first.substr(0, cut + request.delimiter.size());
      // the first key that does not start with `common`: 0xFF is in no UTF-8 key
      last = common + std::string(64, '\xFF');
      if (request.after < last) answer.prefixes.push_back(std::move(common));
      it = keys.upper_bound(last);
    }
  }
  return answer;
}

void ObjectStore::Fill(const std::string& bucket, const std::string& prefix, int count, int folders,
                       std::uint64_t size) {
  auto body = std::make_shared<Body>();
  body->size = size;
  Md5Stream md5;
  const std::string zeros(1u << 16, '\0');
  for (std::uint64_t left = size; left > 0;) {
    const auto n = std::min<std::uint64_t>(left, zeros.size());
    md5.Update(std::string_view(zeros).substr(0, n));
    left -= n;
  }
  const std::string etag = Hex(md5.Finish());
  const Nanos now = SystemClock().Wall();
  const Lock lock(mutex_);
  auto& keys = buckets_[bucket];
  for (int i = 0; i < count; ++i) {
    const std::string folder = folders > 0 ? fmt::format("drawer-{:04}/", i % folders) : "";
    keys[fmt::format("{}{}sheet-{:06}.jpg", prefix, folder, i)] = Object{body, etag, now, {}};
  }
}

std::string ObjectStore::BeginUpload(Upload upload) {
  const Lock lock(mutex_);
  std::string id = RandomName(12);
  uploads_[id] = std::move(upload);
  return id;
}

std::optional<Upload> ObjectStore::FindUpload(const std::string& id) const {
  const Lock lock(mutex_);
  const auto it = uploads_.find(id);
  if (it == uploads_.end()) return std::nullopt;
  return it->second;
}

bool ObjectStore::PutPart(const std::string& id, int number, Part part) {
  const Lock lock(mutex_);
  const auto it = uploads_.find(id);
  if (it == uploads_.end()) return false;
  it->second.parts[number] = std::move(part);
  return true;
}

void ObjectStore::DropUpload(const std::string& id) {
  const Lock lock(mutex_);
  uploads_.erase(id);
}

std::map<std::string, Upload> ObjectStore::Uploads() const {
  const Lock lock(mutex_);
  return uploads_;
}

}  // namespace pargeter::standin
