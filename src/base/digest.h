// Digests, over OpenSSL's libcrypto. All results are raw bytes, not hexadecimal.
#pragma once

#include <memory>
#include <string>
#include <string_view>

namespace pargeter {

std::string Md5(std::string_view data);                               // 16 bytes
std::string Sha256(std::string_view data);                            // 32 bytes
std::string HmacSha256(std::string_view key, std::string_view data);  // 32 bytes

// A running MD5. Not thread-safe.
class Md5Stream {
 public:
  Md5Stream();
  ~Md5Stream();
  Md5Stream(const Md5Stream&) = delete;
  Md5Stream& operator=(const Md5Stream&) = delete;
  void Reset();
  void Update(std::string_view data);
  std::string Finish();  // 16 bytes; Reset before using it again

 private:
  struct Context;
  std::unique_ptr<Context> context_;
};

}  // namespace pargeter
