// Objects and multipart uploads that were begun for one node, and that the store has not
// acknowledged yet. The log stands in the node's row, so that the drive knows them again after a
// lost answer, a crash or a power cut.
//
// The log holds either marks of sent bytes, or one multipart upload: a multipart upload is
// completed or aborted before anything else is sent for the node.
//
// Serial form (docs/formats.md): "=MARK PLACE\n..." for marks;
// "GENERATION-ATTRIBUTES:SIZE:ID\nPATH" for a multipart upload; "?\nPATH" for one whose id is not
// known; "" for nothing.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace pargeter {

// Bytes, or a time of change, that were sent to a place. The forms of a mark and of a place are
// the caller's; neither contains a line feed, and a mark contains no space.
struct SentMark {
  std::string mark, place;
  bool operator==(const SentMark&) const = default;
};

struct MultipartNote {
  std::string path;              // if it ends in "/": every multipart upload below it
  std::string id;                // "": the upload may have been begun, and its id was never heard
  std::uint64_t generation = 0;  // of the content that it sends
  std::uint64_t part_size = 0;   // bytes
  std::string attributes;        // digest of those that it was begun with, in hex
  bool operator==(const MultipartNote&) const = default;
};

class UploadLog {
 public:
  UploadLog() = default;
  explicit UploadLog(MultipartNote note) : begun_(std::move(note)) {}

  bool empty() const { return !multipart() && sent().empty(); }
  const MultipartNote* multipart() const { return std::get_if<MultipartNote>(&begun_); }
  const std::vector<SentMark>& sent() const;  // oldest first; empty beside a multipart upload

  void Clear() { begun_ = Marks(); }
  // A multipart upload stays noted: somebody has to abort it.
  void ForgetSent() {
    if (!multipart()) Clear();
  }
  void ForgetSentTo(const std::string& place);
  void ForgetMark(const std::string& mark);  // at every place
  // Adds a mark instead of a multipart upload, and keeps the latest twelve.
  void AddSent(const std::string& mark, const std::string& place);
  bool WasSentTo(const std::string& place) const;
  bool Contains(const SentMark& mark) const;
  // Objects whose places begin with `from` are at places that begin with `to` now.
  void MovePlaces(const std::string& from, const std::string& to);

  std::string Pack() const;
  // Never fails: a line that has no form of a mark is left out.
  static UploadLog Parse(std::string_view text);
  bool operator==(const UploadLog&) const = default;

 private:
  using Marks = std::vector<SentMark>;
  std::variant<Marks, MultipartNote> begun_;
};

}  // namespace pargeter
