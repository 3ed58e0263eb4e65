// The simulated drive's pages for people.
#pragma once

#include <string>

#include "http_host.h"

namespace pargeter::standin {

HttpAnswer Page(int status, const std::string& body);  // HTML, to stand within <main>

}  // namespace pargeter::standin
