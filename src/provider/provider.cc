#include "provider/provider.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/text.h"
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

bool TestReport::Add(std::string what, const Status& outcome, std::string detail) {
  if (!outcome.ok()) {
    failure = outcome.error();
    detail = outcome.error().what;
  }
  steps.push_back({std::move(what), outcome.ok(), std::move(detail)});
  return outcome.ok();
}

void TestReport::CompareClocks(Nanos ahead) {
  constexpr Duration kDiffer(60000);  // stores refuse requests from 5 or 15 minutes on
  const Duration apart(std::abs(ahead) / 1'000'000);
  if (apart > kDiffer)
    clock = fmt::format("this machine's clock is {} {} the store's", FormatAge(apart),
                        ahead > 0 ? "ahead of" : "behind");
}

Error NotDone(const std::string& path) {
  return Error(Code::kStoreFault,
               fmt::format("the store answered that {} is in its place, and it is not there",
                           Printable(path)),
               "The bytes are safe on this disk and are sent again.");
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

namespace {
constexpr std::string_view kLinkOpening = "This object stands for a symbolic link to:\n";
}  // namespace

std::string SymlinkBody(const std::string& target) {
  std::string body = std::string(kLinkOpening) + target + "\n";
  body.resize(target.size() > kLongestInMetadata ? kLongSymlinkObjectSize : kSymlinkObjectSize,
              '\n');
  return body;
}

std::string TargetInBody(std::string_view body, std::size_t length) {
  if (body.substr(0, kLinkOpening.size()) != kLinkOpening) return "";
  body.remove_prefix(kLinkOpening.size());
  const bool good = length > 0 && length <= kLongestTarget && length <= body.size() &&
                    body.substr(0, length).find('\0') == std::string_view::npos;
  return good ? std::string(body.substr(0, length)) : "";
}

}  // namespace pargeter
