// Outputs made from the description of a program's commands: help on a terminal, manual pages,
// docs/commands.md, and the completions of a shell. Pure functions.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "command_line/command.h"

namespace pargeter::app {

std::string HelpText(const Command& command);  // lines of at most 80 columns

// A manual page in the man(7) macros.
struct Page {
  std::string file;  // "pargeter-evict.1"
  std::string text;
};
// One page for the program and one for each command; the page of a group lists its commands.
std::vector<Page> ManualPages(const Command& root, const std::string& version);
// A page made from a document. Of Markdown these parts are understood: headings, paragraphs,
// lists, tables, indented and fenced blocks, links.
Page PageOfMarkdown(const std::string& markdown, const std::string& name, int section,
                    const std::string& summary, const std::string& version);

// The body of docs/commands.md: all commands, in the order of the job.
std::string CommandsMarkdown(const Command& root);

// What can stand at the last of `words`, which may be empty or begun; `words` are those after the
// program's name. `names_of` gives the names for a value's placeholder, such as DRIVE. Each line is
// a word, or a word, a tab and its summary; the line ":files" or ":folders" stands for the names on
// the disk, which the shell itself completes.
std::vector<std::string> Completions(
    const Command& root, const std::vector<std::string>& words,
    const std::function<std::vector<std::string>(const std::string&)>& names_of);

}  // namespace pargeter::app
