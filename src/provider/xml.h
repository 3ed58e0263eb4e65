// Reading XML from outside: a document that is not well-formed, nests deeply or lacks its root is
// refused. No external or internal entity beyond the five predefined ones is ever expanded.
#pragma once

#include <charconv>
#include <pugixml.hpp>
#include <string>
#include <string_view>

#include "base/error.h"

namespace pargeter::xml {

// By local name: servers differ in whether they declare a namespace by default or with a prefix.
bool Named(const pugi::xml_node& node, std::string_view name);
pugi::xml_node Child(const pugi::xml_node& parent, std::string_view name);
std::string Text(const pugi::xml_node& parent, std::string_view name);
template <typename Number>
Number NumberIn(const pugi::xml_node& parent, std::string_view name) {
  const std::string text = Text(parent, name);
  Number value = 0;
  std::from_chars(text.data(), text.data() + text.size(), value);
  return value;
}
// The document's root, if it has that local name; kDamaged otherwise. `document` owns it.
Result<pugi::xml_node> Root(pugi::xml_document& document, std::string_view text,
                            std::string_view name);
std::string Escape(std::string_view text);

}  // namespace pargeter::xml
