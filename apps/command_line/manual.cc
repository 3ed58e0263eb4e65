// Manual pages and docs/commands.md.
#include "command_line/manual.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace pargeter::app {
namespace {

// ---- man(7)

// A line of Markdown without its marks; a link becomes its text and the file.
std::string Plain(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '`' || (text[i] == '*' && i + 1 < text.size() && text[i + 1] == '*')) {
      i += text[i] == '*';
      continue;
    }
    const std::size_t close = text[i] == '[' ? text.find("](", i) : std::string::npos;
    if (close != std::string::npos) {
      const std::size_t end = text.find(')', close);
      const std::string shown = text.substr(i + 1, close - i - 1);
      const std::string file = Split(text.substr(close + 2, end - close - 2), '#')[0];
      out += file == shown + ".md" ? file : file.empty() ? shown : shown + " (" + file + ")";
      i = end;
      continue;
    }
    if (text[i] == '\\' && i + 1 < text.size() && text[i + 1] == '|') continue;
    out += text[i];
  }
  return out;
}

std::string Roff(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '\\')
      out += "\\e";
    else if (c == '-')
      out += "\\-";
    else
      out += c;
  }
  // a line that begins so would be a macro
  if (!out.empty() && (out[0] == '.' || out[0] == '\'')) out.insert(0, "\\&");
  return out;
}

std::string Upper(std::string text) {
  for (char& c : text) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
  return text;
}

std::string Dashed(std::string name) {
  std::replace(name.begin(), name.end(), ' ', '-');
  return name;
}

std::string Head(const std::string& name, int section, const std::string& summary,
                 const std::string& version) {
  return fmt::format(".TH {} {} \"\" \"{}\" \"Pargeter\"\n.SH NAME\n{} \\- {}\n", Upper(Roff(name)),
                     section, Roff(version), Roff(name), Roff(summary));
}

std::string Tagged(const std::string& left, const std::string& text) {
  return fmt::format(".TP\n.B {}\n{}\n", Roff(left), Roff(text));
}

std::string Block(const std::vector<std::string>& lines) {
  std::string out = ".RS 4\n.nf\n";
  for (const std::string& line : lines) out += Roff(line) + "\n";
  return out + ".fi\n.RE\n";
}

std::string ArgumentsRoff(const char* title, const std::vector<Argument>& all) {
  if (all.empty()) return "";
  std::string out = fmt::format(".SH {}\n", title);
  for (const Argument& one : all) out += Tagged(one.Shown(), one.Text());
  return out;
}

Page PageOf(const Command& command, const std::string& version) {
  const std::string name = Dashed(command.FullName());
  const Texts& texts = command.texts();
  std::string out = Head(name, 1, texts.summary, version);
  out += ".SH SYNOPSIS\n.B " + Roff(command.Usage()) + "\n";
  if (!texts.details.empty()) {
    const char* before = ".SH DESCRIPTION\n";
    for (const std::string& paragraph : texts.Paragraphs()) {
      out += before + Roff(Plain(paragraph)) + "\n";
      before = ".PP\n";
    }
  }
  if (!command.commands().empty()) out += ".SH COMMANDS\n";
  std::string heading;
  for (const auto& one : command.commands()) {
    if (one->heading() != heading) out += fmt::format(".SS {}\n", Roff(heading = one->heading()));
    out += Tagged(Dashed(one->FullName()) + "(1)", one->texts().summary);
  }
  out +=
      ArgumentsRoff("OPERANDS", command.operands()) + ArgumentsRoff("OPTIONS", command.options());
  const char* before = ".SH EXAMPLES\n";
  for (const Example& one : texts.examples) {
    out += before + Roff(one.what) + ":\n" + Block({one.line});
    before = ".PP\n";
  }
  out += ".SH SEE ALSO\n";
  for (const Command* above = command.above(); above != nullptr; above = above->above())
    out += ".BR " + Roff(Dashed(above->FullName())) + " (1),\n";
  out += fmt::format(".BR {0} (7), .BR {0}\\-configuration (5)\n",
                     Roff(Split(command.FullName(), ' ')[0]));
  return {name + ".1", out};
}

void AddPages(const Command& command, const std::string& version, std::vector<Page>* out) {
  out->push_back(PageOf(command, version));
  for (const auto& one : command.commands()) AddPages(*one, version, out);
}

// ---- Markdown

std::string Cell(std::string text) {
  for (std::size_t at = 0; (at = text.find('|', at)) != std::string::npos; at += 2)
    text.insert(at, "\\");
  return text;
}

void AddMarkdown(const Command& command, std::string* out) {
  const Texts& texts = command.texts();
  *out += fmt::format("\n### `{}`\n{}\n\n```\n{}\n```\n", command.FullName(), texts.Sentence(),
                      command.Usage());
  for (const std::string& paragraph : texts.Paragraphs()) *out += "\n" + paragraph + "\n";
  const auto table = [&](const char* title, const std::vector<Argument>& all) {
    if (all.empty()) return;
    *out += fmt::format("\n| {} | |\n| --- | --- |\n", title);
    for (const Argument& one : all)
      *out += fmt::format("| `{}` | {} |\n", Cell(one.Shown()), Cell(one.Text()));
  };
  table("operand", command.operands());
  table("option", command.options());
  if (!texts.examples.empty()) {
    *out += "\n```sh\n";
    for (const Example& one : texts.examples) *out += fmt::format("# {}\n{}\n", one.what, one.line);
    *out += "```\n";
  }
  for (const auto& one : command.commands()) AddMarkdown(*one, out);
}

bool IsNumbered(const std::string& line) {  // "2. the second"
  const std::size_t digits = line.find_first_not_of("0123456789");
  return digits > 0 && digits != std::string::npos && line.compare(digits, 2, ". ") == 0;
}

std::vector<std::string> Cells(const std::string& row) {
  std::vector<std::string> out;
  std::string cell;
  for (std::size_t i = 1; i < row.size(); ++i) {
    if (row[i] == '|' && row[i - 1] != '\\') {
      out.push_back(std::string(Trim(cell)));
      cell.clear();
    } else {
      cell += row[i];
    }
  }
  return out;
}

// A table as tagged paragraphs: its first column is the tag.
std::string TableRoff(const std::vector<std::string>& rows) {
  std::string out;
  const std::vector<std::string> titles = Cells(rows[0]);
  for (std::size_t i = 2; i < rows.size(); ++i) {
    const std::vector<std::string> cells = Cells(rows[i]);
    if (cells.empty()) continue;
    std::string rest;
    for (std::size_t j = 1; j < cells.size(); ++j) {
      if (cells[j].empty()) continue;
      rest += rest.empty() ? "" : "; ";
      if (j < titles.size() && !titles[j].empty() && titles.size() > 2)
        rest += Plain(titles[j]) + ": ";
      rest += Plain(cells[j]);
    }
    out += Tagged(Plain(cells[0]), rest);
  }
  return out;
}

}  // namespace

std::vector<Page> ManualPages(const Command& root, const std::string& version) {
  std::vector<Page> out;
  AddPages(root, version, &out);
  return out;
}

std::string CommandsMarkdown(const Command& root) {
  std::string out, heading;
  for (const auto& one : root.commands()) {
    if (one->heading() != heading) out += fmt::format("\n## {}\n", heading = one->heading());
    AddMarkdown(*one, &out);
  }
  return out;
}

Page PageOfMarkdown(const std::string& markdown, const std::string& name, int section,
                    const std::string& summary, const std::string& version) {
  std::string out = Head(name, section, summary, version);
  const std::vector<std::string> lines = Split(markdown, '\n');
  bool gap = false;       // the next line of text begins a paragraph
  bool untitled = false;  // text would stand below no heading
  for (std::size_t i = 0; i < lines.size(); ++i) {
    const std::string& line = lines[i];
    if (line.rfind("![", 0) == 0 || line.rfind("<!--", 0) == 0) continue;
    const auto begins = [&](const char* mark) { return line.rfind(mark, 0) == 0; };
    const bool row = begins("|") || begins("- ");
    const bool numbered = IsNumbered(line);
    if (gap && !line.empty() && !row && !numbered && !untitled && !begins("#") && !begins("```"))
      out += ".PP\n";
    gap = line.empty() ? gap : row || numbered;
    if (begins("# ")) {
      untitled = true;
    } else if (begins("## ")) {
      out += ".SH " + Upper(Roff(Plain(line.substr(3)))) + "\n";
      untitled = false;
    } else if (begins("### ")) {
      out += ".SS " + Roff(Plain(line.substr(4))) + "\n";
    } else if (begins("```")) {
      std::vector<std::string> block;
      for (++i; i < lines.size() && lines[i].rfind("```", 0) != 0; ++i) block.push_back(lines[i]);
      out += Block(block);
    } else if (begins("|")) {
      std::vector<std::string> rows;
      for (; i < lines.size() && lines[i].rfind("|", 0) == 0; ++i) rows.push_back(lines[i]);
      --i;
      if (rows.size() > 2) out += TableRoff(rows);
    } else if (begins("- ")) {
      out += ".IP \\(bu 3\n" + Roff(Plain(line.substr(2))) + "\n";
    } else if (numbered) {
      const std::size_t dot = line.find(". ");
      out += fmt::format(".IP {}. 4\n{}\n", line.substr(0, dot), Roff(Plain(line.substr(dot + 2))));
    } else if (line.empty()) {
      gap = gap || (i > 0 && !lines[i - 1].empty() && lines[i - 1][0] != '#');
    } else {
      if (untitled) out += ".SH DESCRIPTION\n";
      untitled = false;
      out += Roff(Plain(std::string(Trim(line)))) + "\n";
    }
  }
  return {fmt::format("{}.{}", name, section), out};
}

}  // namespace pargeter::app
