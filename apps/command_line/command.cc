#include "command_line/command.h"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cctype>
#include <deque>

#include "base/text.h"
#include "command_line/manual.h"

namespace pargeter::app {

std::vector<std::string> Argument::Forms() const { return Split(name, ','); }

std::string Argument::Shown() const {
  return fmt::format("{}", fmt::join(Forms(), ", ")) +
         (is_flag() || name == value ? "" : " " + value);
}

std::string Argument::Text() const {
  std::string out = summary;
  if (!one_of.empty()) out += fmt::format(": {}", fmt::join(one_of, ", "));
  if (!fallback.empty()) out += fmt::format(" (default: {})", fallback);
  if (required && name[0] == '-') out += " (required)";
  return out;
}

std::string Texts::Sentence() const {
  std::string out = summary + ".";
  out[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(out[0])));
  return out;
}

std::vector<std::string> Texts::Paragraphs() const {
  std::vector<std::string> out;
  for (std::size_t at = 0; at < details.size();) {
    const std::size_t end = std::min(details.find("\n\n", at), details.size());
    out.push_back(details.substr(at, end - at));
    at = end + 2;
  }
  return out;
}

Argument& Argument::Required() {
  required = true;
  return *this;
}
Argument& Argument::OneOf(std::vector<std::string> values) {
  one_of = std::move(values);
  return *this;
}
Argument& Argument::Within(int least, int greatest) {
  within = {least, greatest};
  return *this;
}
Argument& Argument::Excludes(std::string option) {
  excludes = std::move(option);
  return *this;
}
Argument& Argument::ShowDefault() {
  if (const auto* text = std::get_if<std::string*>(&target)) fallback = **text;
  if (const auto* number = std::get_if<int*>(&target)) fallback = std::to_string(**number);
  if (const auto* number = std::get_if<std::uint64_t*>(&target))
    fallback = std::to_string(**number);
  if (const auto* number = std::get_if<double*>(&target)) fallback = fmt::format("{}", **number);
  return *this;
}

Command::Command(Texts texts) : texts_(std::move(texts)) {}

Command* Command::Add(Texts texts) {
  commands_.push_back(std::make_unique<Command>(std::move(texts)));
  commands_.back()->below_ = heading_;
  commands_.back()->above_ = this;
  return commands_.back().get();
}

Argument& Command::Option(std::string name, std::string value, Target to, std::string summary) {
  return options_.emplace_back(Argument{.name = std::move(name),
                                        .value = std::move(value),
                                        .summary = std::move(summary),
                                        .target = to});
}
Argument& Command::Flag(std::string name, bool* to, std::string summary) {
  return options_.emplace_back(
      Argument{.name = std::move(name), .value = "", .summary = std::move(summary), .target = to});
}
Argument& Command::Operand(std::string value, Target to, std::string summary) {
  return operands_.emplace_back(
      Argument{.name = value, .value = value, .summary = std::move(summary), .target = to});
}

std::string Command::FullName() const {
  return above_ == nullptr ? texts_.name : above_->FullName() + " " + texts_.name;
}

std::string Command::Usage() const {
  std::string out = FullName();
  if (!texts_.usage.empty()) return out + " " + texts_.usage;
  if (!commands_.empty()) return out + (action_ ? " [COMMAND]" : " COMMAND");
  for (const Argument& one : operands_) {
    const std::string word = one.value + (one.repeats() ? "..." : "");
    out += one.required ? " " + word : " [" + word + "]";
  }
  for (const Argument& one : options_)
    if (one.required) out += " " + one.Forms().back() + " " + one.value;
  const bool more = std::any_of(options_.begin(), options_.end(),
                                [](const Argument& one) { return !one.required; });
  return out + (more ? " [OPTIONS]" : "");
}

std::string Nearest(const std::string& typed, const std::vector<std::string>& known) {
  std::string best;
  std::size_t least = std::max<std::size_t>(2, typed.size() / 2);  // further away is no slip
  for (const std::string& word : known) {
    // edit distance, in which two letters that changed places count once
    std::vector<std::vector<std::size_t>> d(typed.size() + 1,
                                            std::vector<std::size_t>(word.size() + 1));
    for (std::size_t i = 0; i <= typed.size(); ++i) d[i][0] = i;
    for (std::size_t j = 0; j <= word.size(); ++j) d[0][j] = j;
    for (std::size_t i = 1; i <= typed.size(); ++i) {
      for (std::size_t j = 1; j <= word.size(); ++j) {
        d[i][j] = std::min(
            {d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (typed[i - 1] != word[j - 1])});
        if (i > 1 && j > 1 && typed[i - 1] == word[j - 2] && typed[i - 2] == word[j - 1])
          d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
      }
    }
    const bool begins = !typed.empty() && word.compare(0, typed.size(), typed) == 0;
    const std::size_t distance = begins ? 1 : d[typed.size()][word.size()];
    if (distance < least || (distance == least && best.empty())) {
      least = distance;
      best = word;
    }
  }
  return best;
}

// The library's parser, built from the description.
struct Reader {
  explicit Reader(Command* root) : parser("", root->texts_.name) {
    parser.fallthrough();
    Build(root, &parser);
  }

  void Build(Command* command, CLI::App* to) {
    made.emplace_back(command, to);
    to->set_help_flag("-h,--help");
    if (!command->commands_.empty() && !command->action_) to->require_subcommand(1);
    for (Argument& one : command->operands_) Put(&one, to);
    for (Argument& one : command->options_) Put(&one, to);
    for (const Argument& one : command->options_)
      if (!one.excludes.empty()) to->get_option(one.Forms().back())->excludes(one.excludes);
    if (command->action_) {
      to->callback([command, to] {
        if (to->get_subcommands().empty()) command->action_();
      });
    }
    for (const auto& sub : command->commands_)
      Build(sub.get(), to->add_subcommand(sub->texts_.name));
  }

  static void Put(Argument* one, CLI::App* to) {
    CLI::Option* option = std::visit(
        [&](auto* target) -> CLI::Option* {
          if constexpr (std::is_same_v<decltype(target), bool*>)
            return to->add_flag(one->name, *target);
          else
            return to->add_option(one->name, *target);
        },
        one->target);
    if (one->required) option->required();
    if (!one->one_of.empty()) option->check(CLI::IsMember(one->one_of));
    if (one->within) option->check(CLI::Range(one->within->first, one->within->second));
    // each takes one word, so that the next word is not taken for one more value
    if (one->repeats() && one->name[0] == '-')
      option->expected(1)->allow_extra_args(false)->multi_option_policy(
          CLI::MultiOptionPolicy::TakeAll);
  }

  // The command that was chosen, as far as the words could be understood.
  const Command* Chosen() const {
    const CLI::App* at = &parser;
    while (!at->get_subcommands().empty()) at = at->get_subcommands().front();
    for (const auto& [command, app] : made)
      if (app == at) return command;
    return made.front().first;
  }

  CLI::App parser;
  std::deque<std::pair<Command*, CLI::App*>> made;
};

namespace {

Error Misunderstood(const Command& at, const std::vector<std::string>& rest,
                    const CLI::ParseError& e) {
  std::vector<std::string> known;
  const std::string see = fmt::format("See: {} --help", at.FullName());
  const std::string word = rest.empty() ? "" : rest.front();
  const bool required = dynamic_cast<const CLI::RequiredError*>(&e) != nullptr;
  if (required && at.commands().empty()) return Error(Code::kInvalid, e.what(), see);
  if (word.empty() && !required) {
    std::string what = e.what();
    if (what.size() > 1 && std::islower(static_cast<unsigned char>(what[1])))  // not of DRIVE
      what[0] = static_cast<char>(std::tolower(what[0]));
    return Error(Code::kInvalid, what, see);
  }
  if (word.empty()) {
    std::string names;
    for (const auto& one : at.commands()) names += " " + one->texts().name;
    return Error(Code::kInvalid, fmt::format("{} needs a command", at.FullName()),
                 "Commands:" + names);
  }
  const bool option = word[0] == '-';
  if (option) {
    for (const Command* each = &at; each != nullptr; each = each->above())
      for (const Argument& one : each->options())
        for (const std::string& form : one.Forms()) known.push_back(form);
  } else {
    for (const auto& one : at.commands()) known.push_back(one->texts().name);
  }
  const std::string near = Nearest(word.substr(0, word.find('=')), known);
  const std::string what =
      option ? fmt::format("{} has no option \"{}\"", at.FullName(), Printable(word))
      : at.commands().empty()
          ? fmt::format("{} takes no further word \"{}\"", at.FullName(), Printable(word))
          : fmt::format("{} has no command \"{}\"", at.FullName(), Printable(word));
  return Error(Code::kInvalid, what,
               near.empty() ? see : fmt::format("Is this meant? {} {}", at.FullName(), near));
}

}  // namespace

Result<std::string> Command::Read(int argc, const char* const* argv, const std::string& version) {
  Reader reader(this);
  reader.parser.set_version_flag("--version", version);
  try {
    reader.parser.parse(argc, argv);
  } catch (const CLI::CallForHelp&) {
    return HelpText(*reader.Chosen());
  } catch (const CLI::CallForVersion&) {
    return version + "\n";
  } catch (const CLI::ParseError& e) {
    return Misunderstood(*reader.Chosen(), reader.parser.remaining(true), e);
  }
  return std::string();
}

}  // namespace pargeter::app
