#include "pages.h"

#include <fmt/format.h>

namespace pargeter::standin {

HttpAnswer Page(int status, const std::string& body) {
  HttpAnswer answer;
  answer.status = status;
  answer.text = fmt::format(
      "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">"
      "<meta name=\"viewport\" content=\"width=device-width\"><title>Museum drive</title><style>\n"
      "body {{ font: 17px/1.5 system-ui, sans-serif; background: #f3f1ea; color: #222; margin: 0 "
      "}}\n"
      "main {{ max-width: 30em; margin: 4em auto; background: #fff; padding: 2em 2.5em; "
      "border-radius: 6px; box-shadow: 0 1px 4px #0002 }}\n"
      "h1 {{ font-size: 1.3em; margin-top: 0 }} label {{ display: block; margin: .3em 0 }}\n"
      "button {{ font: inherit; padding: .4em 1.2em; margin: 1em .6em 0 0; border-radius: 4px; "
      "border: 1px solid #888; background: #fff }}\n"
      "button[value=grant] {{ background: #2d5a3d; border-color: #2d5a3d; color: #fff }}\n"
      "a.button {{ display: inline-block; padding: .4em 1.2em; margin-top: 1em; border-radius: "
      "4px; "
      "background: #2d5a3d; color: #fff; text-decoration: none }}\n"
      "dl {{ display: grid; grid-template-columns: max-content 1fr; gap: .2em 1.2em; margin: 0 }} "
      "dt {{ color: #666 }} dd {{ margin: 0; overflow-wrap: anywhere }}\n"
      "input[type=text] {{ font: inherit; padding: .3em; width: 12em }}\n"
      "</style></head><body><main>{}</main></body></html>\n",
      body);
  answer.headers = {{"Content-Type", "text/html; charset=utf-8"}, {"Cache-Control", "no-store"}};
  return answer;
}

}  // namespace pargeter::standin
