// How commands reach a running drive: JSON-RPC 2.0, one message a line, over a Unix socket that
// only its owner (and root) may use. Errors carry our code's name and remedy in "data".
#pragma once

#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <vector>

#include "base/error.h"

namespace pargeter {

using Json = nlohmann::json;

constexpr std::size_t kMaxMessage = 64u << 20;

std::string RequestLine(int id, const std::string& method, const Json& params);
std::string ResultLine(const Json& id, const Json& result);
std::string ErrorLine(const Json& id, const Error& error);

struct RpcRequest {
  Json id;
  std::string method;
  Json params = Json::object();
};
// kInvalid if it is no JSON-RPC 2.0 request.
Result<RpcRequest> ParseRequest(const std::string& line);
// The result, or the error that the other side sent. kDamaged if it is no answer.
Result<Json> ParseAnswer(const std::string& line);

// Text from outside may be no UTF-8, which JSON must be: such bytes become \xHH.
std::string JsonText(std::string_view raw);
Json JsonTexts(const std::vector<std::string>& raw);

}  // namespace pargeter
