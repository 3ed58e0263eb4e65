// S3Provider: what a store does with conditions, and whether an account works.
#include <fmt/format.h>

#include <algorithm>

#include "base/digest.h"
#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "provider/s3/s3_provider.h"
#include "provider/trial.h"

namespace pargeter::s3 {

// PUTs one byte with a condition: its version, or the refusal.
Result<std::string> S3Provider::ProbePut(const std::string& path, const char* header,
                                         const std::string& value, const Cancel& cancel) {
  Call call = NewCall("PUT", path, "write a trial object", cancel);
  call.body = "p";
  call.headers = {{"content-md5", Base64(Md5(call.body))}};
  if (header != nullptr) call.headers.emplace_back(header, value);
  PG_ASSIGN(const HttpResponse response, wire_.Send(call));
  const std::string etag = PlainEtag(response.head.Get("etag"));
  if (!IsSealed(response.head)) SawEtag(etag, Hex(Md5(call.body)));
  return etag;
}

Status S3Provider::Probe(const Cancel& cancel) {
  const std::string path = std::string(kScratchPrefix) + RandomName();
  const auto refused = [](const Result<std::string>& r) {
    return !r.ok() && r.error().code == Code::kChanged;
  };
  // Not understood is an answer; not allowed or not reached is a failure of the probe.
  const auto fatal = [](const Result<std::string>& r) {
    return !r.ok() && (r.error().code == Code::kPermission || r.error().code == Code::kSignIn ||
                       r.error().code == Code::kNotFound || r.error().code == Code::kCancelled ||
                       MayRetry(r.error().code));
  };
  PG_ASSIGN(const std::string etag, ProbePut(path, nullptr, "", cancel));
  Learnt found = learnt();
  const auto again = ProbePut(path, "if-none-match", "*", cancel);
  if (fatal(again)) return again.error();
  found.create = refused(again) ? Guard::kAtomic : Guard::kCheckFirst;

  const auto wrong = ProbePut(path, "if-match", "\"00000000000000000000000000000000\"", cancel);
  if (fatal(wrong)) return wrong.error();
  found.replace = Guard::kCheckFirst;
  if (refused(wrong)) {
    for (const bool unquoted : {false, true}) {
      const auto right = ProbePut(path, "if-match", unquoted ? etag : "\"" + etag + "\"", cancel);
      if (fatal(right)) return right.error();
      if (!right.ok()) continue;
      found.replace = Guard::kAtomic;
      found.unquoted_if_match = unquoted;
      break;
    }
  }
  Call copy = NewCall("PUT", path, "copy", cancel);
  copy.headers = {{"x-amz-copy-source",
                   PercentEncode(options_.bucket + "/" + options_.prefix + path, KeepSlash::kYes)},
                  {"x-amz-metadata-directive", "REPLACE"},
                  {"if-none-match", "*"}};
  const auto copied = wire_.Send(copy);
  found.copy_target =
      !copied.ok() && copied.error().code == Code::kChanged ? Guard::kAtomic : Guard::kCheckFirst;
  PG_TRY(Remove(path, Precondition::Anything(), cancel));
  Learn([&](Learnt& k) {
    k.create = found.create;
    k.replace = found.replace;
    k.unquoted_if_match = found.unquoted_if_match;
    k.copy_target = found.copy_target;
  });
  return {};
}

std::string S3Provider::ProbeResult() const {
  const Learnt l = learnt();
  if (l.create == Guard::kUnknown) return "";
  const auto word = [](Guard g) { return g == Guard::kAtomic ? "atomic" : "check-first"; };
  return fmt::format("create={} replace={}{} copy={} md5={}", word(l.create), word(l.replace),
                     l.unquoted_if_match ? "-unquoted" : "", word(l.copy_target),
                     l.etag_is_md5 == Learnt::kYes  ? "yes"
                     : l.etag_is_md5 == Learnt::kNo ? "no"
                                                    : "maybe");
}

void S3Provider::AdoptProbeResult(const std::string& result) {
  const auto has = [&](std::string_view word) { return result.find(word) != std::string::npos; };
  if (!has("create=") || !has("replace=") || !has("copy=")) return;
  Learn([&](Learnt& k) {
    k.create = has("create=atomic") ? Guard::kAtomic : Guard::kCheckFirst;
    k.replace = has("replace=atomic") ? Guard::kAtomic : Guard::kCheckFirst;
    k.unquoted_if_match = has("replace=atomic-unquoted");
    k.copy_target = has("copy=atomic") ? Guard::kAtomic : Guard::kCheckFirst;
    k.etag_is_md5 = has("md5=yes") ? Learnt::kYes : has("md5=no") ? Learnt::kNo : Learnt::kMaybe;
  });
}

Result<std::vector<Entry>> S3Provider::Browse(const std::string& folder, const Cancel& cancel) {
  std::vector<Entry> entries;
  if (folder.empty()) {
    Call call;
    call.what = "cannot list the buckets";
    call.cancel = cancel;
    PG_ASSIGN(const HttpResponse response, wire_.Send(call));
    PG_ASSIGN(const std::vector<std::string> names, ParseBuckets(response.body));
    for (const std::string& name : names) {
      Entry entry;
      entry.kind = Kind::kFolder;
      entry.name = name;
      entries.push_back(std::move(entry));
    }
    return entries;
  }
  for (std::string next;;) {
    PG_ASSIGN(const ListPage page, List("", next, cancel));
    entries.insert(entries.end(), page.entries.begin(), page.entries.end());
    next = page.next;
    if (next.empty()) return entries;
  }
}

TestReport S3Provider::Test(bool may_write, const Cancel& cancel) {
  TestReport report = TestFolder(may_write, cancel);
  const std::optional<Nanos> ahead = wire_.Ahead();
  if (!ahead) return report;
  report.CompareClocks(*ahead);
  if (!report.failure)
    report.steps.push_back({"clock", true,
                            report.clock.empty()
                                ? "agrees with the store's"
                                : report.clock + "; far enough apart, stores refuse "
                                                 "every request"});
  return report;
}

TestReport S3Provider::TestFolder(bool may_write, const Cancel& cancel) {
  TestReport report;
  if (options_.bucket.empty()) {
    const auto buckets = Browse("", cancel);
    if (!buckets.ok() && buckets.error().code == Code::kPermission) {  // the store's own refusal
      report.Add("sign in", {},
                 "the key is accepted, but may not list buckets: test one with --folder BUCKET");
      return report;
    }
    report.Add("sign in", buckets.status(),
               buckets.ok() ? fmt::format("the key is accepted; {} bucket{}", buckets->size(),
                                          buckets->size() == 1 ? "" : "s")
                            : "");
    return report;
  }
  const auto listing = ListKeys(options_.prefix, false, 10, "", cancel);
  if (!report.Add("list", listing.status(), "the folder can be listed")) {
    return report;
  }
  if (may_write) {
    if (const Status probed = Probe(cancel); !probed.ok()) {
      report.Add("write", probed, "");
      return report;
    }
    const bool atomic = learnt().create == Guard::kAtomic && learnt().replace == Guard::kAtomic;
    TryFile(this, atomic ? kGuarded : kNotGuarded, cancel, &report);
  }
  return report;
}

}  // namespace pargeter::s3
