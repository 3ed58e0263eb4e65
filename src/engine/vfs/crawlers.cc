// Files: programs that sniff at everything. They get what is on this disk, and of the rest the
// first and the last block of each file, up to an allowance; then a clear refusal. So a folder full
// of thumbnails-to-be does not pull every file from the store.
#include <fmt/format.h>

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"
#include "engine/vfs/account_room.h"
#include "engine/vfs/files.h"
#include "engine/vfs/namespace.h"

namespace pargeter {

namespace {
constexpr std::uint64_t kShyBlock = 64 * kKiB;

constexpr std::size_t kCommLength = 15;  // what the kernel keeps of a program's name
}  // namespace

bool Files::IsCrawler(const std::string& program) {
  View view(&tree_);
  return std::any_of(limits_(view).crawlers.begin(), limits_(view).crawlers.end(),
                     [&](const std::string& name) {
                       return program.substr(0, kCommLength) == name.substr(0, kCommLength);
                     });
}

void Files::LimitCrawler(const OpenFilePtr& file, const std::string& program) {
  const Lock lock(file->mu);
  file->crawler = program;
}

Result<std::size_t> Files::CrawlerAllowance(const OpenFilePtr& file, std::size_t size,
                                            std::uint64_t offset) {
  std::uint64_t here = offset, file_size = 0;
  {
    const Lock lock(file->content->mu);
    file_size = file->content->size;
    for (const Range& range : file->content->present.All()) {
      if (range.begin <= offset && offset < range.end) here = range.end;
    }
  }
  if (offset >= file_size) return size;  // the end of the file
  if (here > offset) return static_cast<std::size_t>(std::min<std::uint64_t>(size, here - offset));
  std::uint64_t end = 0;
  if (offset < kShyBlock) end = kShyBlock;
  const std::uint64_t last = file_size > kShyBlock ? file_size - kShyBlock : 0;
  if (offset >= last) end = file_size;
  std::uint64_t allowance = 0;
  {
    View view(&tree_);
    allowance = limits_(view).crawler_allowance;
  }
  std::string program;
  bool first = false;
  {
    const Lock lock(file->mu);
    program = file->crawler;
    if (end > offset && file->crawler_used < allowance) {
      end = std::min({end, offset + size, offset + (allowance - file->crawler_used)});
      file->crawler_used += end - offset;
      return static_cast<std::size_t>(end - offset);
    }
    first = !std::exchange(file->held_back, true);
  }
  const auto path = facts_.PathOf(file->id);
  if (first)
    events_.Publish(Event::Happened("here", "held-back", path.ok() ? *path : "",
                                    fmt::format("{} wanted more than the ends of it", program)));
  return Error(Code::kRefused,
               fmt::format("{} is one of the programs that do not fetch whole files", program),
               "See: pargeter drive change --shy-readers");
}

}  // namespace pargeter
