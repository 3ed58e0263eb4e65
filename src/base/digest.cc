#include "base/digest.h"

#include <openssl/evp.h>
#include <openssl/hmac.h>

namespace pargeter {
namespace {

std::string Digest(const EVP_MD* kind, std::string_view data) {
  unsigned char out[EVP_MAX_MD_SIZE];
  unsigned int length = 0;
  EVP_Digest(data.data(), data.size(), out, &length, kind, nullptr);
  return std::string(reinterpret_cast<char*>(out), length);
}

}  // namespace

std::string Md5(std::string_view data) { return Digest(EVP_md5(), data); }
std::string Sha256(std::string_view data) { return Digest(EVP_sha256(), data); }

std::string HmacSha256(std::string_view key, std::string_view data) {
  unsigned char out[EVP_MAX_MD_SIZE];
  unsigned int length = 0;
  HMAC(EVP_sha256(), key.data(), static_cast<int>(key.size()),
       reinterpret_cast<const unsigned char*>(data.data()), data.size(), out, &length);
  return std::string(reinterpret_cast<char*>(out), length);
}

struct Md5Stream::Context {
  EVP_MD_CTX* evp = EVP_MD_CTX_new();
  ~Context() { EVP_MD_CTX_free(evp); }
};

Md5Stream::Md5Stream() : context_(std::make_unique<Context>()) { Reset(); }
Md5Stream::~Md5Stream() = default;
void Md5Stream::Reset() { EVP_DigestInit_ex(context_->evp, EVP_md5(), nullptr); }
void Md5Stream::Update(std::string_view data) {
  EVP_DigestUpdate(context_->evp, data.data(), data.size());
}
std::string Md5Stream::Finish() {
  unsigned char out[EVP_MAX_MD_SIZE];
  unsigned int length = 0;
  EVP_DigestFinal_ex(context_->evp, out, &length);
  return std::string(reinterpret_cast<char*>(out), length);
}

}  // namespace pargeter
