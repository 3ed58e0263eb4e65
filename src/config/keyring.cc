#include "config/keyring.h"

#include <fmt/format.h>
#include <libsecret/secret.h>

#include <chrono>
#include <condition_variable>
#include <memory>
#include <mutex>
#include <thread>

#include "base/text.h"

namespace pargeter {
namespace {

constexpr std::chrono::seconds kPatience(30);

const SecretSchema* Schema() {
  static const SecretSchema schema = {"pargeter.account",
                                      SECRET_SCHEMA_NONE,
                                      {{"account", SECRET_SCHEMA_ATTRIBUTE_STRING},
                                       {"file", SECRET_SCHEMA_ATTRIBUTE_STRING},
                                       {nullptr, SECRET_SCHEMA_ATTRIBUTE_STRING}},
                                      0,
                                      nullptr,
                                      nullptr,
                                      nullptr,
                                      nullptr,
                                      nullptr,
                                      nullptr,
                                      nullptr};
  return &schema;
}

// Calls off what it is given to if that takes too long.
class Deadline {
 public:
  Deadline() : cancellable_(g_cancellable_new()), thread_([this] { Watch(); }) {}
  ~Deadline() {
    {
      const std::lock_guard lock(mutex_);
      done_ = true;
    }
    changed_.notify_all();
    thread_.join();
    g_object_unref(cancellable_);
  }
  Deadline(const Deadline&) = delete;
  Deadline& operator=(const Deadline&) = delete;
  GCancellable* get() { return cancellable_; }

 private:
  void Watch() {
    std::unique_lock lock(mutex_);
    if (!changed_.wait_for(lock, kPatience, [this] { return done_; }))
      g_cancellable_cancel(cancellable_);
  }
  GCancellable* cancellable_;
  std::mutex mutex_;
  std::condition_variable changed_;
  bool done_ = false;
  std::thread thread_;
};

Error Unavailable(GError* error) {
  const std::string why = Printable(error->message);
  const bool slow = g_error_matches(error, G_IO_ERROR, G_IO_ERROR_CANCELLED) != 0;
  g_error_free(error);
  if (slow)
    return Error(Code::kUnavailable, "the keyring did not answer; it may be locked",
                 "Unlock it, and try again.");
  return Error(Code::kUnavailable, "the keyring cannot be asked: " + why,
               "It is the desktop's secret service, on your session's bus. Without one: pargeter "
               "account change ACCOUNT --secret-in file");
}

}  // namespace

Result<std::string> Keyring::Load() const {
  Deadline deadline;
  GError* error = nullptr;
  gchar* found = secret_password_lookup_sync(Schema(), deadline.get(), &error, "account",
                                             account_.c_str(), "file", file_.c_str(), nullptr);
  if (error != nullptr) return Unavailable(error);
  if (found == nullptr)
    return Error(Code::kNotFound,
                 fmt::format("the keyring holds no secret for the account {}", account_),
                 fmt::format("Store it: pargeter account change {} --secret-file FILE", account_));
  std::string secret(found);
  secret_password_free(found);
  return secret;
}

Status Keyring::Save(const std::string& secret) const {
  Deadline deadline;
  GError* error = nullptr;
  const std::string label = "Pargeter account " + account_;
  secret_password_store_sync(Schema(), SECRET_COLLECTION_DEFAULT, label.c_str(), secret.c_str(),
                             deadline.get(), &error, "account", account_.c_str(), "file",
                             file_.c_str(), nullptr);
  if (error != nullptr) return Unavailable(error);
  return {};
}

Status Keyring::Forget() const {
  Deadline deadline;
  GError* error = nullptr;
  secret_password_clear_sync(Schema(), deadline.get(), &error, "account", account_.c_str(), "file",
                             file_.c_str(), nullptr);
  if (error != nullptr) return Unavailable(error);
  return {};
}

}  // namespace pargeter
