// PlacementRules: rules for every machine that mounts this folder. They are one small object in it,
// so that each machine knows them before it shows or fetches anything (format: docs/rules.md). Two
// machines that change it at once merge: of two rules for the same path or pattern the later one
// holds.
#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/log.h"
#include "base/text.h"
#include "engine/bytes/sources.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/policy/placement_rules.h"

namespace pargeter {

namespace {
using Json = nlohmann::json;

constexpr std::size_t kLargest = 1 << 20;  // bytes of the object

constexpr Nanos kRemembered = 90ll * 86400 * 1'000'000'000;  // a rule that was taken away

constexpr int kTries = 8;

class TextSink : public ReadSink {
 public:
  Status Begin(const Entry&) override {
    text.clear();
    return {};
  }
  Status Write(std::string_view piece) override {
    if (text.size() + piece.size() > kLargest)
      return Error(Code::kRefused, "the shared rules are larger than 1 MiB");
    text += piece;
    return {};
  }
  std::string text;
};

bool SameKey(const Rule& a, const Rule& b) {
  return a.key == b.key && a.is_pattern == b.is_pattern && a.everywhere == b.everywhere;
}

bool IsLater(const Rule& a, const Rule& b) {
  return std::tie(a.set_at, a.set_by) > std::tie(b.set_at, b.set_by);
}

// Takes `rule` in unless a later one of its key is there. True: it changed something.
bool Merge(std::vector<Rule>* rules, const Rule& rule) {
  const auto it = std::find_if(rules->begin(), rules->end(),
                               [&](const Rule& other) { return SameKey(other, rule); });
  if (it == rules->end()) {
    rules->push_back(rule);
    return true;
  }
  if (!IsLater(rule, *it)) return false;
  *it = rule;
  return true;
}
}  // namespace

Result<std::vector<Rule>> ParseSharedRules(const std::string& text) {
  const Error damaged(Code::kDamaged,
                      fmt::format("the shared rules ({}) are not as they should be", kRulesName),
                      "Mend or delete that object at the store.");
  const Json document = Json::parse(text, nullptr, false);
  if (!document.is_object() || !document.contains("rules") || !document["rules"].is_array())
    return damaged;
  if (!document.contains("format") || document["format"] != 1)
    return Error(Code::kRefused, "the shared rules are of a newer format",
                 "Use a newer version of the program.");
  std::vector<Rule> rules;
  for (const Json& each : document["rules"]) {
    const auto text_of = [&each](const char* field) {
      return each.is_object() && each.contains(field) && each[field].is_string()
                 ? each[field].get<std::string>()
                 : std::string();
    };
    Rule rule;
    rule.everywhere = true;
    rule.is_pattern = !text_of("pattern").empty();
    rule.key = rule.is_pattern ? text_of("pattern") : text_of("path");
    rule.set_at = ParseRfc3339(text_of("set").c_str());
    rule.set_by = text_of("by");
    const std::string word = text_of("placement");
    if (!word.empty()) {
      const auto placement = ParsePlacement(word);
      if (!placement.ok()) continue;  // of a later version: the rest holds all the same
      rule.placement = *placement;
    }
    if (rule.key.empty() || rule.set_by.empty() || rule.key.size() > 4096) continue;
    Merge(&rules, rule);
  }
  return rules;
}

std::string WriteSharedRules(const std::vector<Rule>& rules) {
  Json all = Json::array();
  for (const Rule& rule : rules) {
    all.push_back({{rule.is_pattern ? "pattern" : "path", rule.key},
                   {"placement", NameOf(rule.placement)},
                   {"set", Rfc3339(rule.set_at)},
                   {"by", rule.set_by}});
  }
  return Json{{"format", 1}, {"rules", all}}.dump(2, ' ', false, Json::error_handler_t::replace) +
         "\n";
}

// What the store has now; nothing there: no rules, and no version.
Result<std::pair<std::vector<Rule>, std::string>> PlacementRules::LoadSharedRules() {
  const auto there =
      store_->Ask(Traffic::kForeground, [&](const Call& c) { return store_->Look(kRulesName, c); });
  std::pair<std::vector<Rule>, std::string> out;
  if (!there.ok()) {
    if (there.error().code == Code::kNotFound) return out;
    return there.error();
  }
  TextSink sink;
  if (there->size > kLargest)
    return Error(Code::kRefused, "the shared rules are larger than 1 MiB");
  PG_TRY(store_->Ask(Traffic::kForeground, [&](const Call& c) {
    return store_->Read(kRulesName, there->version, 0, there->size, &sink, c);
  }));
  PG_ASSIGN(out.first, ParseSharedRules(sink.text));
  out.second = there->version;
  return out;
}

// A listing shows another version of them: they are taken in before what else it shows.
Status PlacementRules::TakeSharedRules(const std::string& version) {
  {
    View view(&tree_);
    PG_ASSIGN(const std::string known, view.index().Meta(Mark::kSharedRules));
    if (known == version) return {};
  }
  PG_ASSIGN(const auto loaded, LoadSharedRules());
  return ApplySharedRules(loaded.first, loaded.second);
}

Status PlacementRules::ApplySharedRules(const std::vector<Rule>& rules,
                                        const std::string& version) {
  {
    View view(&tree_);
    Change change(&view);
    for (const Rule& rule :
         rules_(view)) {  // what the store does not have any more, was taken away
      const bool there = std::any_of(rules.begin(), rules.end(),
                                     [&](const Rule& other) { return SameKey(other, rule); });
      if (!rule.everywhere || there) continue;
      Rule none = rule;
      none.placement = Placement::kNone;
      PG_TRY(PlaceShared(view, none));
      PG_TRY(view.index().DeleteRule(rule));
    }
    for (const Rule& rule : rules) PG_TRY(view.index().SaveRule(rule));
    Status done = LoadRules(view);
    for (const Rule& rule : rules) {
      if (done.ok()) done = PlaceShared(view, rule);
    }
    if (done.ok()) done = PropagatePlacement(view, kRootId, true);
    if (done.ok()) done = view.index().SetMeta(Mark::kSharedRules, version);
    if (done.ok()) done = change.Commit();
    if (!done.ok()) {
      Ignore(LoadRules(view));
      return done;
    }
  }
  Log(LogLevel::kInfo, "{} shared rules were taken in", rules.size());
  pins_.Wake();
  return {};
}

// On the node that has this path now, if there is one; a rule for this machine is nearer.
Status PlacementRules::PlaceShared(View& view, const Rule& rule) {
  if (rule.is_pattern) return {};
  PG_ASSIGN(Inode * inode, view.Get(kRootId));
  for (const std::string& part : Split(rule.key, '/')) {
    PG_ASSIGN(inode, view.Find(inode->node.id, part));
    if (inode == nullptr) return {};
  }
  Node& node = inode->node;
  const bool shared = !node.own_rule.set_by.empty();
  if (node.own_rule.placement != Placement::kNone && !shared) return {};
  if (node.own_rule.placement == rule.placement && node.own_rule.set_at == rule.set_at) return {};
  if (rule.placement == Placement::kNone && !shared) return {};
  node.own_rule.placement = rule.placement;
  node.own_rule.set_at = rule.placement == Placement::kNone ? 0 : rule.set_at;
  node.own_rule.set_by = rule.placement == Placement::kNone ? "" : rule.set_by;
  view.Touch(node.id);
  return view.Save(inode);
}

// Writes them where all machines look, with what others wrote meanwhile.
Status PlacementRules::Publish(const std::vector<Rule>& fresh) {
  PG_TRY(facts_.CheckWritable());
  PG_TRY(facts_.EnsureProbed(Call{stop_, Traffic::kForeground}));
  for (int i = 0; i < kTries; ++i) {
    PG_ASSIGN(auto loaded, LoadSharedRules());
    for (const Rule& rule : fresh) Merge(&loaded.first, rule);
    const Nanos long_ago = options_.clock->Wall() - kRemembered;
    std::erase_if(loaded.first, [&](const Rule& rule) {
      return rule.placement == Placement::kNone && rule.set_at < long_ago;
    });
    TextSource source(WriteSharedRules(loaded.first));
    const Precondition only_if =
        loaded.second.empty() ? Precondition::Absent() : Precondition::Is(loaded.second);
    const auto written = store_->Ask(Traffic::kForeground, [&](const Call& c) {
      return store_->Write(kRulesName, &source, Attributes(), only_if, c);
    });
    if (written.ok()) return ApplySharedRules(loaded.first, written->version);
    if (written.error().code != Code::kChanged) return written.error();
  }
  return Error(Code::kBusy, "other machines change the shared rules all the time",
               "Try again in a minute.");
}

Status PlacementRules::PlaceEverywhere(const std::string& key, bool is_pattern,
                                       Placement placement) {
  if (!is_pattern && key.empty())
    return Error(Code::kInvalid, "a rule for every machine needs a folder in the drive",
                 "For the whole drive, set it on each machine.");
  if (is_pattern && key.find('/') != std::string::npos)
    return Error(Code::kInvalid, "a pattern is for names, and has no \"/\"");
  if (placement == Placement::kLocal && !is_pattern)
    return Error(Code::kInvalid, "what is local is on one machine: it cannot be so everywhere",
                 "Leave out --everywhere, or use --pattern.");
  return Publish({{key, is_pattern, placement, options_.clock->Wall(), options_.host, true}});
}

// A folder with such a rule was moved here: the rule goes with it.
Status PlacementRules::FollowMoves() {
  std::vector<Rule> fresh;
  {
    View view(&tree_);
    PG_ASSIGN(const std::vector<Node> placed, view.index().Placed());
    for (const Node& node : placed) {
      if (node.own_rule.set_by.empty() || node.gone()) continue;
      PG_ASSIGN(const std::string path, view.PathHere(node.id));
      const auto rule = std::find_if(rules_(view).begin(), rules_(view).end(), [&](const Rule& r) {
        return r.everywhere && !r.is_pattern && r.set_at == node.own_rule.set_at &&
               r.set_by == node.own_rule.set_by && r.placement == node.own_rule.placement;
      });
      if (rule == rules_(view).end() || rule->key == path) continue;
      const Nanos now = options_.clock->Wall();
      fresh.push_back({rule->key, false, Placement::kNone, now, options_.host, true});
      fresh.push_back({path, false, node.own_rule.placement, now, options_.host, true});
    }
  }
  return fresh.empty() || options_.read_only ? Status() : Publish(fresh);
}

}  // namespace pargeter
