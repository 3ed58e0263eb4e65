// Words for placements, and the programs that get only the ends of files.
#include "engine/api/types.h"

#include <fmt/format.h>

#include "base/text.h"
#include "engine/api/residency.h"

namespace pargeter {

const char* NameOf(Placement placement) {
  switch (placement) {
    case Placement::kCache:
      return "cache";
    case Placement::kPin:
      return "pin";
    case Placement::kThin:
      return "thin";
    case Placement::kHide:
      return "hide";
    case Placement::kLocal:
      return "local";
    case Placement::kNone:
      break;
  }
  return "";
}

Result<Placement> ParsePlacement(const std::string& word) {
  for (const Placement each :
       {Placement::kCache, Placement::kPin, Placement::kThin, Placement::kHide, Placement::kLocal})
    if (word == NameOf(each)) return each;
  return Error(Code::kInvalid, fmt::format("\"{}\" is no placement", Printable(word)),
               "Placements: pin cache thin hide local");
}

// Indexers, thumbnailers, scanners that come with common systems, by the kernel's name for them.
std::vector<std::string> CommonCrawlers() {
  return {"updatedb",
          "updatedb.mlocate",
          "updatedb.plocate",
          "tracker-miner-fs-3",
          "tracker-extract-3",
          "localsearch-3",
          "baloo_file",
          "baloo_file_extractor",
          "tumblerd",
          "gdk-pixbuf-thumbnailer",
          "evince-thumbnailer",
          "totem-video-thumbnailer",
          "ffmpegthumbnailer",
          "gnome-thumbnail-font",
          "clamscan",
          "clamdscan",
          "clamd"};
}

}  // namespace pargeter
