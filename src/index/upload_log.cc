#include "index/upload_log.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.h"

namespace pargeter {
namespace {

constexpr std::size_t kMostMarks = 12;

std::uint64_t Number(std::string_view text) {
  std::uint64_t n = 0;
  std::from_chars(text.data(), text.data() + text.size(), n);
  return n;
}

// "GENERATION-ATTRIBUTES:SIZE:ID"
MultipartNote ParseMultipart(std::string_view head, std::string_view path) {
  MultipartNote note;
  note.path = path;
  if (head == "?") return note;
  const auto size = head.find(':'), id = head.find(':', size + 1);
  if (size == std::string_view::npos || id == std::string_view::npos) return note;
  const auto dash = std::min(head.find('-'), size);
  note.generation = Number(head.substr(0, dash));
  if (dash < size) note.attributes = head.substr(dash + 1, size - dash - 1);
  note.part_size = Number(head.substr(size + 1, id - size - 1));
  note.id = head.substr(id + 1);
  return note;
}

}  // namespace

const std::vector<SentMark>& UploadLog::sent() const {
  static const Marks none;
  const Marks* marks = std::get_if<Marks>(&begun_);
  return marks != nullptr ? *marks : none;
}

void UploadLog::ForgetSentTo(const std::string& place) {
  if (Marks* marks = std::get_if<Marks>(&begun_))
    std::erase_if(*marks, [&](const SentMark& one) { return one.place == place; });
}

void UploadLog::ForgetMark(const std::string& mark) {
  if (Marks* marks = std::get_if<Marks>(&begun_))
    std::erase_if(*marks, [&](const SentMark& one) { return one.mark == mark; });
}

void UploadLog::AddSent(const std::string& mark, const std::string& place) {
  if (multipart()) Clear();
  Marks& marks = std::get<Marks>(begun_);
  std::erase(marks, SentMark{mark, place});
  marks.push_back({mark, place});
  if (marks.size() > kMostMarks) marks.erase(marks.begin());
}

bool UploadLog::WasSentTo(const std::string& place) const {
  return std::any_of(sent().begin(), sent().end(),
                     [&](const SentMark& one) { return one.place == place; });
}

bool UploadLog::Contains(const SentMark& mark) const {
  return std::find(sent().begin(), sent().end(), mark) != sent().end();
}

void UploadLog::MovePlaces(const std::string& from, const std::string& to) {
  if (Marks* marks = std::get_if<Marks>(&begun_)) {
    for (SentMark& one : *marks)
      if (one.place.rfind(from, 0) == 0) one.place = to + one.place.substr(from.size());
  }
}

std::string UploadLog::Pack() const {
  if (const MultipartNote* note = multipart()) {
    if (note->id.empty()) return "?\n" + note->path;
    return fmt::format("{}-{}:{}:{}\n{}", note->generation, note->attributes, note->part_size,
                       note->id, note->path);
  }
  std::string out;
  for (const SentMark& one : sent()) out += (out.empty() ? "=" : "\n") + one.mark + " " + one.place;
  return out;
}

UploadLog UploadLog::Parse(std::string_view text) {
  UploadLog log;
  if (text.empty()) return log;
  if (text[0] != '=') {
    const auto end = std::min(text.find('\n'), text.size());
    return UploadLog(
        ParseMultipart(text.substr(0, end), text.substr(std::min(end + 1, text.size()))));
  }
  Marks marks;
  for (const std::string& line : Split(std::string(text.substr(1)), '\n')) {
    const auto space = line.find(' ');
    if (space != std::string::npos)
      marks.push_back({line.substr(0, space), line.substr(space + 1)});
  }
  log.begun_ = std::move(marks);
  return log;
}

}  // namespace pargeter
