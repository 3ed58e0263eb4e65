#include "provider/provider.h"

#include <algorithm>

#include "base/units.h"

namespace pargeter {

namespace {
Error NoParts() { return Error(Code::kUnsupported, "this store takes files whole only"); }
}  // namespace

Result<PartedUpload> Provider::BeginParts(const std::string&, const Attributes&, const Cancel&) {
  return NoParts();
}
Result<UploadedPart> Provider::WritePart(const PartedUpload&, int, WriteSource*, const Cancel&) {
  return NoParts();
}
Result<std::vector<UploadedPart>> Provider::ListParts(const PartedUpload&, const Cancel&) {
  return NoParts();
}
Result<Entry> Provider::CompleteParts(const PartedUpload&, const std::vector<UploadedPart>&,
                                      const Precondition&, const Cancel&) {
  return NoParts();
}

ContentCheck::Verdict JudgeAll(ContentCheck* check, WriteSource* source) {
  std::string piece(kMiB, '\0');
  for (std::uint64_t at = 0; at < source->Size();) {
    const std::uint64_t size = std::min<std::uint64_t>(piece.size(), source->Size() - at);
    const auto n = source->Read(piece.data(), static_cast<std::size_t>(size), at);
    if (!n.ok() || *n == 0) return ContentCheck::Verdict::kUnknown;
    check->Add(std::string_view(piece.data(), *n));
    at += *n;
  }
  return check->Judge();
}

bool IsOwnScratchName(std::string_view name) {
  return name.substr(0, kScratchPrefix.size()) == kScratchPrefix;
}

std::string SymlinkBody(const std::string& target) {
  std::string body = "This object stands for a symbolic link to:\n" + target + "\n";
  body.resize(kSymlinkObjectSize, '\n');
  return body;
}

}  // namespace pargeter
