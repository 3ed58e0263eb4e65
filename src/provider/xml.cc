#include "provider/xml.h"

#include <fmt/format.h>

namespace pargeter::xml {
namespace {

constexpr int kDeepest = 32;

// The depth is checked before parsing, since the destructor of a very deep tree would recurse.
bool TooDeep(std::string_view text) {
  int depth = 0;
  for (std::size_t i = 0; i + 1 < text.size(); ++i) {
    if (text[i] != '<') continue;
    if (text[i + 1] == '/') {
      --depth;
    } else if (text[i + 1] != '?' && text[i + 1] != '!') {
      const auto end = text.find('>', i);
      if (end == std::string_view::npos) return true;
      if (text[end - 1] != '/' && ++depth > kDeepest) return true;
      i = end;
    }
  }
  return false;
}

// No store needs one, and what it could do (entities, other files) no parser of ours does: who
// sends one means no good, or is none.
bool DeclaresType(const pugi::xml_document& document) {
  for (const pugi::xml_node& child : document.children())
    if (child.type() == pugi::node_doctype) return true;
  return false;
}

}  // namespace

bool Named(const pugi::xml_node& node, std::string_view name) {
  std::string_view full = node.name();
  const auto colon = full.find(':');
  if (colon != std::string_view::npos) full.remove_prefix(colon + 1);
  return full == name;
}

pugi::xml_node Child(const pugi::xml_node& parent, std::string_view name) {
  for (const pugi::xml_node& child : parent.children()) {
    if (Named(child, name)) return child;
  }
  return {};
}

std::string Text(const pugi::xml_node& parent, std::string_view name) {
  return Child(parent, name).child_value();
}

Result<pugi::xml_node> Root(pugi::xml_document& document, std::string_view text,
                            std::string_view name) {
  const bool deep = TooDeep(text);
  if (!deep &&
      document.load_buffer(text.data(), text.size(),
                           pugi::parse_default | pugi::parse_ws_pcdata_single | pugi::parse_doctype,
                           pugi::encoding_utf8)) {
    if (DeclaresType(document))
      return Error(Code::kDamaged, "the store's answer declares a document type: it is refused",
                   "Check that the address is that of a store, and not of a web page.");
    if (Named(document.document_element(), name)) return document.document_element();
  }
  return Error(Code::kDamaged, fmt::format("the store answered with something that is no {}", name),
               "Check that the address is that of a store, and not of a web page.");
}

std::string Escape(std::string_view text) {
  std::string out;
  for (const char c : text) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      default:
        if (static_cast<unsigned char>(c) < 0x20) {
          out += fmt::format("&#{};", static_cast<int>(c));
        } else {
          out += c;
        }
    }
  }
  return out;
}

}  // namespace pargeter::xml
