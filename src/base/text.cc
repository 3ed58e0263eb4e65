#include "base/text.h"

#include <cstdint>

namespace pargeter {

std::string_view Trim(std::string_view s) {
  const auto first = s.find_first_not_of(" \t\r\n");
  if (first == std::string_view::npos) return {};
  return s.substr(first, s.find_last_not_of(" \t\r\n") - first + 1);
}

std::vector<std::string> Split(std::string_view s, char separator) {
  std::vector<std::string> pieces;
  for (;;) {
    const auto at = s.find(separator);
    pieces.emplace_back(s.substr(0, at));
    if (at == std::string_view::npos) return pieces;
    s.remove_prefix(at + 1);
  }
}

std::string Lower(std::string_view s) {
  std::string out(s);
  for (char& c : out) {
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  }
  return out;
}

std::string Hex(std::string_view bytes) {
  static const char kDigits[] = "0123456789abcdef";
  std::string out;
  out.reserve(bytes.size() * 2);
  for (const unsigned char c : bytes) {
    out += kDigits[c >> 4];
    out += kDigits[c & 15];
  }
  return out;
}

std::size_t Utf8Length(std::string_view s) {
  if (s.empty()) return 0;
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(s[i]); };
  const unsigned char lead = byte(0);
  if (lead < 0x80) return 1;
  std::size_t length = 0;
  std::uint32_t point = 0;
  if (lead >= 0xC2 && lead <= 0xDF) {
    length = 2;
    point = lead & 0x1Fu;
  } else if ((lead & 0xF0) == 0xE0) {
    length = 3;
    point = lead & 0x0Fu;
  } else if (lead >= 0xF0 && lead <= 0xF4) {
    length = 4;
    point = lead & 0x07u;
  } else {
    return 0;
  }
  if (s.size() < length) return 0;
  for (std::size_t i = 1; i < length; ++i) {
    if ((byte(i) & 0xC0) != 0x80) return 0;
    point = (point << 6) | (byte(i) & 0x3Fu);
  }
  const bool overlong = (length == 3 && point < 0x800) || (length == 4 && point < 0x10000);
  const bool surrogate = point >= 0xD800 && point <= 0xDFFF;
  return overlong || surrogate || point > 0x10FFFF ? 0 : length;
}

bool IsUtf8(std::string_view s) {
  while (!s.empty()) {
    const std::size_t length = Utf8Length(s);
    if (length == 0) return false;
    s.remove_prefix(length);
  }
  return true;
}

std::string Printable(std::string_view s) {
  std::string out;
  while (!s.empty()) {
    const std::size_t length = Utf8Length(s);
    const unsigned char c = static_cast<unsigned char>(s[0]);
    // C1 controls (U+0080 to U+009F) act on terminals like the C0 ones
    const bool c1 = length == 2 && c == 0xC2 && static_cast<unsigned char>(s[1]) < 0xA0;
    if (length == 0 || c < 0x20 || c == 0x7F || c1) {
      const std::size_t bad = c1 ? 2 : 1;
      for (std::size_t i = 0; i < bad; ++i) out += "\\x" + Hex(s.substr(i, 1));
      s.remove_prefix(bad);
    } else {
      out += s.substr(0, length);
      s.remove_prefix(length);
    }
  }
  return out;
}

std::string Base64(std::string_view bytes) {
  static const char kAlphabet[] =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string out;
  std::size_t i = 0;
  const auto byte = [&](std::size_t k) {
    return k < bytes.size() ? static_cast<unsigned char>(bytes[k]) : 0u;
  };
  for (; i < bytes.size(); i += 3) {
    const std::uint32_t group = (byte(i) << 16) | (byte(i + 1) << 8) | byte(i + 2);
    out += kAlphabet[(group >> 18) & 63];
    out += kAlphabet[(group >> 12) & 63];
    out += i + 1 < bytes.size() ? kAlphabet[(group >> 6) & 63] : '=';
    out += i + 2 < bytes.size() ? kAlphabet[group & 63] : '=';
  }
  return out;
}

std::string Base64Decode(std::string_view text) {
  std::string out;
  std::uint32_t group = 0;
  int bits = 0;
  while (!text.empty() && text.back() == '=') text.remove_suffix(1);
  for (const char c : text) {
    std::uint32_t value = 0;
    if (c >= 'A' && c <= 'Z')
      value = static_cast<std::uint32_t>(c - 'A');
    else if (c >= 'a' && c <= 'z')
      value = static_cast<std::uint32_t>(c - 'a' + 26);
    else if (c >= '0' && c <= '9')
      value = static_cast<std::uint32_t>(c - '0' + 52);
    else if (c == '+')
      value = 62;
    else if (c == '/')
      value = 63;
    else
      return "";
    group = (group << 6) | value;
    bits += 6;
    if (bits >= 8) {
      bits -= 8;
      out += static_cast<char>((group >> bits) & 0xFF);
    }
  }
  return out;
}

std::string Counted(std::uint64_t number, std::string_view one) {
  return std::to_string(number) + " " + std::string(one) + (number == 1 ? "" : "s");
}

}  // namespace pargeter
