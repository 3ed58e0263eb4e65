// The small things that run for every name, read or request.
#include <benchmark/benchmark.h>

#include "cache/range_set.h"
#include "engine/api/naming.h"
#include "provider/s3/s3_xml.h"
#include "provider/s3/sigv4.h"

namespace pargeter {
namespace {

void SignARequest(benchmark::State& state) {
  const s3::Credentials credentials{"fieldkey", "secret", "us-east-1"};
  const s3::Fields headers = {{"host", "127.0.0.1:9400"}, {"x-amz-date", "20260301T093000Z"}};
  for (auto _ : state) {
    benchmark::DoNotOptimize(s3::Authorization(credentials, "GET", "/herbarium/sheets/1.jpg", {},
                                               headers, "UNSIGNED-PAYLOAD", "20260301T093000Z"));
  }
}
BENCHMARK(SignARequest);

void ParseAPageOf1000(benchmark::State& state) {
  std::string xml = "<ListBucketResult>";
  for (int i = 0; i < 1000; ++i) {
    xml += "<Contents><Key>sheets/sheet-" + std::to_string(i) +
           ".jpg</Key><LastModified>2026-03-01T09:30:00.000Z</LastModified>"
           "<ETag>&quot;d41d8cd98f00b204e9800998ecf8427e&quot;</ETag><Size>8192</Size></Contents>";
  }
  xml += "</ListBucketResult>";
  for (auto _ : state) benchmark::DoNotOptimize(s3::ParseListing(xml));
}
BENCHMARK(ParseAPageOf1000);

void NameOfAKey(benchmark::State& state) {
  for (auto _ : state)
    benchmark::DoNotOptimize(KeyToName("sheet-000123 (Corallina insularis).jpg"));
}
BENCHMARK(NameOfAKey);

void MarkBlocksPresent(benchmark::State& state) {
  for (auto _ : state) {
    RangeSet set;
    for (std::uint64_t i = 0; i < 1000; ++i)
      set.Add({(i * 7919 % 1000) * 65536, (i * 7919 % 1000 + 1) * 65536});
    benchmark::DoNotOptimize(set.Bytes());
  }
}
BENCHMARK(MarkBlocksPresent);

}  // namespace
}  // namespace pargeter

BENCHMARK_MAIN();
