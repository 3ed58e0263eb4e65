// What every test of the provider contract needs: a folder of its own at one of the stores at hand.
#pragma once

#include <gtest/gtest.h>

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "base/random.h"
#include "support/fake_store.h"
#include "support/peers.h"
#include "support/text_body.h"

namespace pargeter::test {

// The stand-ins and the stores in memory always, real servers where PARGETER_PEERS names them.
inline std::vector<Peer>& Peers() {
  static std::vector<Peer> peers = [] {
    std::vector<Peer> all = AllPeers();
    for (const char* name : {"memory", "memory_drive"})
      all.push_back({.name = name, .kind = "memory"});
    return all;
  }();
  return peers;
}

// The engine's tests stand on this one: a world of its own, as an object store or a cloud drive.
class MemoryStore : private std::unique_ptr<FakeWorld>, public FakeStore {
 public:
  explicit MemoryStore(bool drive)
      : std::unique_ptr<FakeWorld>(std::make_unique<FakeWorld>()), FakeStore(get()) {
    (*this)->moves_files = (*this)->moves_folders = drive;
    (*this)->serial_versions = (*this)->real_folders = drive;
  }
};
inline std::unique_ptr<Provider> OpenStore(const Peer& peer, const std::string& prefix) {
  if (peer.kind == "memory") return std::make_unique<MemoryStore>(peer.name == "memory_drive");
  return OpenPeer(peer, prefix);
}

// The numbers of those of one kind; of all with "".
inline std::vector<std::size_t> PeersOf(const std::string& kind) {
  std::vector<std::size_t> out;
  for (std::size_t i = 0; i < Peers().size(); ++i)
    if (kind.empty() || Peers()[i].kind == kind) out.push_back(i);
  return out;
}

class ConformanceTest : public testing::TestWithParam<std::size_t> {
 protected:
  ConformanceTest() : prefix_("conformance-" + RandomName(4) + "/") {
    above_ = OpenStore(peer(), "");
    EXPECT_TRUE(above_->MakeFolder(prefix_.substr(0, prefix_.size() - 1), {}, nullptr).ok());
    provider_ = OpenStore(peer(), prefix_);
    const Status probed = provider_->Probe(nullptr);
    EXPECT_TRUE(probed.ok()) << probed.error().what;
  }
  ~ConformanceTest() override {
    std::vector<Provider::Removal> all;
    for (std::string next;;) {
      const auto page = provider_->ListDeep("", next, nullptr);
      if (!page.ok()) break;
      for (const Entry& e : page->entries) all.push_back({e.name, ""});
      next = page->next;
      if (next.empty()) break;
    }
    const auto failed = provider_->RemoveMany(all, nullptr);
    EXPECT_TRUE(failed.ok() && failed->empty());
    EXPECT_TRUE(above_->RemoveFolder(prefix_.substr(0, prefix_.size() - 1), nullptr).ok());
    const auto left = above_->Look(prefix_.substr(0, prefix_.size() - 1), nullptr);
    EXPECT_EQ(left.ok() ? Code::kInternal : left.error().code, Code::kNotFound) << "left behind";
  }
  const Peer& peer() const {
    EnsureStarted(&Peers()[GetParam()]);
    return Peers()[GetParam()];
  }

  Result<Entry> Put(const std::string& path, const std::string& text,
                    const Precondition& only_if = Precondition::Anything(),
                    const Attributes& a = {}) {
    TextSource source(text);
    return provider_->Write(path, &source, a, only_if, nullptr);
  }
  Result<std::string> Get(const std::string& path, const std::string& version = "",
                          std::uint64_t offset = 0, std::uint64_t size = 1u << 30) {
    TextSink sink;
    const Status s = provider_->Read(path, version, offset, size, &sink, nullptr);
    if (!s.ok()) return s.error();
    return sink.text;
  }
  std::map<std::string, Entry> ListAll(const std::string& folder) {
    std::map<std::string, Entry> all;
    for (std::string next;;) {
      const auto page = provider_->List(folder, next, nullptr);
      EXPECT_TRUE(page.ok()) << page.error().what;
      if (!page.ok()) return all;
      for (const Entry& e : page->entries) {
        all[(e.marker && e.name.empty() ? "(marker)" : "") + e.name +
            (e.kind == Kind::kFolder ? "/" : "")] = e;
      }
      next = page->next;
      if (next.empty()) return all;
    }
  }
  static std::string Bytes(std::size_t n) {
    std::string s(n, '\0');
    for (std::size_t i = 0; i < n; ++i) s[i] = static_cast<char>((i * 2654435761u) >> 13);
    return s;
  }

  const std::string prefix_;
  std::unique_ptr<Provider> above_, provider_;  // where the folder is, and it
};

#define ASSERT_OK(expr)                                                           \
  do {                                                                            \
    const auto& ok_ = (expr);                                                     \
    ASSERT_TRUE(ok_.ok()) << NameOf(ok_.error().code) << " " << ok_.error().what; \
  } while (false)

}  // namespace pargeter::test
