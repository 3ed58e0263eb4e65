#include "provider/provider.h"

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

bool IsOwnScratchName(std::string_view name) {
  return name.substr(0, kScratchPrefix.size()) == kScratchPrefix;
}

std::string SymlinkBody(const std::string& target) {
  std::string body = "This object stands for a symbolic link to:\n" + target + "\n";
  body.resize(kSymlinkObjectSize, '\n');
  return body;
}

}  // namespace pargeter
