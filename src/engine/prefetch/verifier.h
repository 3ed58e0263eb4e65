// Is what is on this disk what the store gave?
#pragma once

#include "engine/context/context.h"
#include "engine/prefetch/fetch_jobs.h"

namespace pargeter {

class Contents;
class Facts;
class Fetcher;

class Verifier : public Component {
 public:
  Verifier(Context* context, Facts* facts, Contents* contents, Fetcher* fetcher)
      : Component(context), facts_(*facts), contents_(*contents), fetcher_(*fetcher) {}

  Result<Checked> Verify(NodeId id, bool with_store);

 private:
  Status VerifyFile(NodeId id, bool with_store, Checked* out);
  // Of a file that is wholly here. May ask the store once: how did that version come to it?
  ContentCheck::Verdict JudgeByDigest(const std::shared_ptr<Content>& content, const Node& node);
  bool CanBeRead(const std::shared_ptr<Content>& content, std::uint64_t size);

  Facts& facts_;
  Contents& contents_;
  Fetcher& fetcher_;
};

}  // namespace pargeter
