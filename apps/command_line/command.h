// The commands of a program with their options, operands and texts. This one description is what a
// command line is read by, and what help, manual pages, docs/commands.md and completion are made
// from (manual.h), so that they cannot say different things.
//
// Not thread-safe: a program describes its commands, reads one command line, and runs one action.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "base/error.h"

namespace pargeter::app {

// Where a value is put. It must outlive Command::Read and the action; actions usually share it.
using Target =
    std::variant<bool*, std::string*, int*, std::uint64_t*, double*, std::optional<std::string>*,
                 std::optional<double>*, std::vector<std::string>*>;

// An option ("--cache-limit SIZE"), a flag ("-q,--quiet") or an operand ("PATH").
struct Argument {
  std::string name;   // of an option or flag with its dashes, several forms apart by commas
  std::string value;  // the placeholder of its value, "" of a flag; completion goes by it
  std::string summary;
  Target target;
  bool required = false;
  std::vector<std::string> one_of;            // the only values allowed; empty: any
  std::optional<std::pair<int, int>> within;  // least and greatest number allowed
  std::string excludes;                       // an option that cannot be given as well
  std::string fallback;                       // the value without it, as help shows it

  bool is_flag() const { return value.empty(); }
  bool repeats() const { return std::holds_alternative<std::vector<std::string>*>(target); }
  std::vector<std::string> Forms() const;  // "-q" and "--quiet"
  std::string Shown() const;               // "-q, --quiet" or "--at DIR"
  std::string Text() const;                // the summary, the allowed values, the default

  Argument& Required();
  Argument& OneOf(std::vector<std::string> values);
  Argument& Within(int least, int greatest);
  Argument& Excludes(std::string option);
  Argument& ShowDefault();  // help shows what the target holds now
};

struct Example {
  std::string what;  // what is wanted: "free the space of files unused for 30 days"
  std::string line;  // the command line for it
};

struct Texts {
  std::string name;
  std::string summary;  // one line, a verb and its object, lower case, without a full stop
  std::string details;  // paragraphs apart by an empty line; "": none
  std::vector<Example> examples;
  std::string usage;  // the words after the name, if not the operands in their order

  std::string Sentence() const;                 // the summary, with a capital and a full stop
  std::vector<std::string> Paragraphs() const;  // of the details
};

class Command {
 public:
  explicit Command(Texts texts);

  // Adds a command below this one, under the heading of the last Group(). Owned by this.
  Command* Add(Texts texts);
  // A heading for the commands that are added next.
  void Group(std::string heading) { heading_ = std::move(heading); }

  Argument& Option(std::string name, std::string value, Target to, std::string summary);
  Argument& Flag(std::string name, bool* to, std::string summary);
  Argument& Operand(std::string value, Target to, std::string summary);
  // Read calls this if this command is chosen. A command with commands below it needs none.
  void Does(std::function<void()> action) { action_ = std::move(action); }

  // Reads a command line into the targets, and calls the chosen command's action. Returns what is
  // to be printed instead: help or the version. kInvalid: the sentence names the word that is
  // wrong, and the remedy the nearest word that is right.
  Result<std::string> Read(int argc, const char* const* argv, const std::string& version);

  const Texts& texts() const { return texts_; }
  const std::string& heading() const { return below_; }
  bool has_action() const { return action_ != nullptr; }
  const std::vector<std::unique_ptr<Command>>& commands() const { return commands_; }
  const std::vector<Argument>& options() const { return options_; }
  const std::vector<Argument>& operands() const { return operands_; }
  const Command* above() const { return above_; }
  std::string FullName() const;  // "pargeter account add"
  std::string Usage() const;     // "pargeter account add ACCOUNT --kind KIND [options]"

 private:
  friend struct Reader;
  Texts texts_;
  std::string heading_, below_;  // of what is added next; the one that this is below
  const Command* above_ = nullptr;
  std::vector<std::unique_ptr<Command>> commands_;
  std::vector<Argument> options_, operands_;
  std::function<void()> action_;
};

// The word of `known` that `typed` was most likely meant to be; "" if none is near.
std::string Nearest(const std::string& typed, const std::vector<std::string>& known);

}  // namespace pargeter::app
