// Help on a terminal, and completion.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "command_line/manual.h"

namespace pargeter::app {
namespace {

constexpr std::size_t kWidth = 80;

// Words in lines, from column `at` on; the first line is already there up to it.
std::string Wrapped(const std::string& text, std::size_t at) {
  std::string out, line;
  for (const std::string& word : Split(text, ' ')) {
    if (!line.empty() && at + line.size() + 1 + word.size() > kWidth) {
      out += line + "\n" + std::string(at, ' ');
      line.clear();
    }
    line += (line.empty() ? "" : " ") + word;
  }
  return out + line + "\n";
}

// A command line that the shell takes as it stands here.
std::string Continued(const std::string& line) {
  std::string out, rest;
  for (const std::string& word : Split(line, ' ')) {
    if (!rest.empty() && rest.size() + word.size() + 5 > kWidth) {
      out += rest + " \\\n      ";
      rest.clear();
    }
    rest += (rest.empty() ? "" : " ") + word;
  }
  return out + rest + "\n";
}

std::string Row(const std::string& left, std::size_t column, const std::string& text) {
  std::string out = "  " + left;
  if (out.size() + 2 > column)
    out += "\n" + std::string(column, ' ');
  else
    out += std::string(column - out.size(), ' ');
  return out + Wrapped(text, column);
}

std::string Table(const std::string& title, const std::vector<Argument>& arguments) {
  if (arguments.empty()) return "";
  std::string out = "\n" + title + "\n";
  for (const Argument& one : arguments) out += Row(one.Shown(), 26, one.Text());
  return out;
}

std::string CommandTable(const Command& command) {
  std::string out, heading = "-";
  for (const auto& one : command.commands()) {
    if (one->heading() != heading) {
      heading = one->heading();
      out += "\n" + (heading.empty() ? "Commands" : heading) + "\n";
    }
    out += Row(one->texts().name, 16, one->texts().summary);
  }
  return out;
}

// The options that come from the commands above.
std::string OptionsAbove(const Command& command) {
  std::string names;
  for (const Command* each = command.above(); each != nullptr; each = each->above())
    for (const Argument& one : each->options()) names += one.Forms().back() + ", ";
  return Wrapped("Options of every command: " + names + "--help", 0);
}

const Argument* FindOption(const Command* at, const std::string& form) {
  for (; at != nullptr; at = at->above())
    for (const Argument& one : at->options())
      for (const std::string& each : one.Forms())
        if (each == form) return &one;
  return nullptr;
}

}  // namespace

std::string HelpText(const Command& command) {
  std::string out = "Usage: " + command.Usage() + "\n\n" + Wrapped(command.texts().Sentence(), 0);
  for (const std::string& paragraph : command.texts().Paragraphs())
    out += "\n" + Wrapped(paragraph, 0);
  out += CommandTable(command) + Table("Operands", command.operands()) +
         Table("Options", command.options());
  if (!command.texts().examples.empty()) out += "\nExamples\n";
  for (const Example& one : command.texts().examples)
    out += fmt::format("  # {}\n  {}", one.what, Continued(one.line));
  if (command.above() != nullptr)
    out += "\n" + OptionsAbove(command);
  else
    out += fmt::format("\nOf a command: {0} COMMAND --help, or: man {0}-COMMAND\n",
                       command.texts().name);
  return out;
}

std::vector<std::string> Completions(
    const Command& root, const std::vector<std::string>& words,
    const std::function<std::vector<std::string>(const std::string&)>& names_of) {
  const Command* at = &root;
  const Argument* awaits = nullptr;  // an option whose value comes next
  std::size_t operands = 0;
  for (std::size_t i = 0; i + 1 < words.size(); ++i) {
    const std::string& word = words[i];
    if (awaits != nullptr) {
      awaits = nullptr;
    } else if (word.size() > 1 && word[0] == '-') {
      const Argument* option = FindOption(at, word);
      if (option != nullptr && !option->is_flag()) awaits = option;
    } else {
      const auto& below = at->commands();
      const auto sub = std::find_if(below.begin(), below.end(),
                                    [&](const auto& one) { return one->texts().name == word; });
      if (sub != below.end())
        at = sub->get();
      else
        ++operands;
    }
  }
  const std::string begun = words.empty() ? "" : words.back();
  std::vector<std::string> out;
  const auto offer = [&](const std::string& word, const std::string& summary) {
    if (word.compare(0, begun.size(), begun) == 0)
      out.push_back(summary.empty() ? word : word + "\t" + summary);
  };
  const auto values = [&](const Argument& one) {
    for (const std::string& word : one.one_of) offer(word, "");
    for (const std::string& word : names_of(one.value)) offer(word, "");
    if (one.value == "PATH" || one.value == "FILE") out.push_back(":files");
    if (one.value == "DIR") out.push_back(":folders");
  };
  if (awaits != nullptr) {
    values(*awaits);
  } else if (!begun.empty() && begun[0] == '-') {
    for (const Command* each = at; each != nullptr; each = each->above())
      for (const Argument& one : each->options()) offer(one.Forms().back(), one.summary);
    offer("--help", "show help");
  } else {
    for (const auto& one : at->commands()) offer(one->texts().name, one->texts().summary);
    if (!at->operands().empty()) {
      const std::size_t last = at->operands().size() - 1;
      if (operands <= last || at->operands()[last].repeats())
        values(at->operands()[std::min(operands, last)]);
    }
  }
  return out;
}

}  // namespace pargeter::app
