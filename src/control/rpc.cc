#include "control/rpc.h"

#include "base/text.h"

namespace pargeter {
namespace {

std::string Line(const Json& message) {
  return message.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n";
}

std::string TextOf(const Json& object, const char* key) {
  if (!object.is_object() || !object.contains(key) || !object[key].is_string()) return "";
  return object[key];
}

// Reading it is not recursive, copying and writing it is: one line of brackets would end the drive.
bool TooDeep(std::string_view line) {
  constexpr int kDeepest = 32;
  int depth = 0;
  bool in_text = false;
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char c = line[i];
    if (in_text && c == '\\') {
      ++i;
    } else if (c == '"') {
      in_text = !in_text;
    } else if (!in_text && (c == '[' || c == '{')) {
      if (++depth > kDeepest) return true;
    } else if (!in_text && (c == ']' || c == '}')) {
      --depth;
    }
  }
  return false;
}

// Nothing (a discarded value) for what is no message.
Json Parse(const std::string& line) {
  return TooDeep(line) ? Json(Json::value_t::discarded) : Json::parse(line, nullptr, false);
}

}  // namespace

std::string RequestLine(int id, const std::string& method, const Json& params) {
  return Line({{"jsonrpc", "2.0"}, {"id", id}, {"method", method}, {"params", params}});
}
std::string ResultLine(const Json& id, const Json& result) {
  return Line({{"jsonrpc", "2.0"}, {"id", id}, {"result", result}});
}
std::string ErrorLine(const Json& id, const Error& error) {
  const int number = error.code == Code::kInvalid ? -32602 : -32000;
  return Line({{"jsonrpc", "2.0"},
               {"id", id},
               {"error",
                {{"code", number},
                 {"message", JsonText(error.what)},
                 {"data", {{"name", NameOf(error.code)}, {"remedy", JsonText(error.remedy)}}}}}});
}

Result<RpcRequest> ParseRequest(const std::string& line) {
  const Json message = Parse(line);
  const Error bad(Code::kInvalid, "that is no JSON-RPC 2.0 request");
  if (!message.is_object()) return bad;
  const auto version = message.find("jsonrpc"), method = message.find("method");
  if (version == message.end() || *version != "2.0" || method == message.end() ||
      !method->is_string())
    return bad;
  RpcRequest request;
  request.method = *method;
  if (message.contains("id")) request.id = message["id"];
  if (!request.id.is_null() && !request.id.is_number() && !request.id.is_string()) return bad;
  if (message.contains("params")) request.params = message["params"];
  if (!request.params.is_object()) return bad;
  return request;
}

Result<Json> ParseAnswer(const std::string& line) {
  const Json message = Parse(line);
  const Error bad(Code::kDamaged, "the running drive gave an answer that is no JSON-RPC 2.0");
  if (!message.is_object()) return bad;
  if (message.contains("result")) return Json(message["result"]);
  const auto error = message.find("error");
  if (error == message.end() || !error->is_object() || TextOf(*error, "message").empty())
    return bad;
  const Json data = error->value("data", Json());
  return Error(CodeOfName(TextOf(data, "name")), TextOf(*error, "message"), TextOf(data, "remedy"));
}

std::string JsonText(std::string_view raw) {
  if (IsUtf8(raw)) return std::string(raw);
  std::string out;
  while (!raw.empty()) {
    const std::size_t length = Utf8Length(raw);
    out += length == 0 ? "\\x" + Hex(raw.substr(0, 1)) : std::string(raw.substr(0, length));
    raw.remove_prefix(length == 0 ? 1 : length);
  }
  return out;
}

Json JsonTexts(const std::vector<std::string>& raw) {
  Json out = Json::array();
  for (const std::string& text : raw) out.push_back(JsonText(text));
  return out;
}

}  // namespace pargeter
