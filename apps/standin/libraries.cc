#include "libraries.h"

#include <algorithm>
#include <set>

namespace pargeter::standin {

std::vector<std::string> Libraries::People() { return {"curator", "keeper", "visitor"}; }

Libraries::Libraries(bool apart) : apart_(apart) {
  const Lock lock(mutex_);
  if (!apart_) return;
  for (const std::string& person : People())
    shares_.push_back({person, "personal/", "people/" + person + "/", Role::kWrite});
  const auto share = [&](const char* person, const char* shown, const char* kept, Role role)
                         REQUIRES(mutex_) {
                           shares_.push_back({person, shown, kept, role});
                         };
  share("keeper", "shared/loan forms/", "people/curator/loan forms/", Role::kWrite);
  share("visitor", "shared/loan forms/", "people/curator/loan forms/", Role::kRead);
  for (const char* person : {"curator", "keeper"})
    share(person, "team/herbarium/", "team/herbarium/", Role::kWrite);
  share("visitor", "team/herbarium/", "team/herbarium/", Role::kRead);
  share("curator", "team/archive/", "team/archive/", Role::kWrite);
  share("keeper", "team/archive/", "team/archive/", Role::kRead);
  share("visitor", "team/archive/", "team/archive/", Role::kNone);
}

Libraries::Place Libraries::Find(const std::string& person, const std::string& shown) const {
  if (!apart_) return {shown, Role::kWrite, false};
  const Lock lock(mutex_);
  Place place;
  for (const Share& share : shares_) {
    if (share.person != person || share.role == Role::kNone) continue;
    const std::string open = shown.empty() || shown.back() == '/' ? shown : shown + "/";
    if (open.compare(0, share.shown.size(), share.shown) == 0) {
      const bool itself = open == share.shown;
      return {itself ? share.kept : share.kept + shown.substr(share.shown.size()), share.role,
              false};
    }
    if (share.shown.compare(0, open.size(), open) == 0) place = {open, Role::kRead, true};
  }
  return place;
}

std::string Libraries::Shown(const std::string& person, const std::string& key) const {
  if (!apart_) return key;
  const Lock lock(mutex_);
  const Share* best = nullptr;
  for (const Share& share : shares_)
    if (share.person == person && share.role != Role::kNone &&
        key.compare(0, share.kept.size(), share.kept) == 0 &&
        (best == nullptr || share.kept.size() > best->kept.size()))
      best = &share;
  return best == nullptr ? key : best->shown + key.substr(best->kept.size());
}

std::vector<std::string> Libraries::OnShelf(const std::string& person,
                                            const std::string& shown) const {
  const Lock lock(mutex_);
  std::set<std::string> names;
  for (const Share& share : shares_) {
    if (share.person != person || share.role == Role::kNone || share.shown == shown) continue;
    if (share.shown.compare(0, shown.size(), shown) != 0) continue;
    names.insert(
        share.shown.substr(shown.size(), share.shown.find('/', shown.size()) - shown.size()));
  }
  return {names.begin(), names.end()};
}

bool Libraries::SetRole(const std::string& person, const std::string& shown, Role role) {
  const Lock lock(mutex_);
  for (Share& share : shares_) {
    if (share.person != person || share.shown != shown) continue;
    share.role = role;
    return true;
  }
  return false;
}

std::vector<std::string> Libraries::Kept() const {
  const Lock lock(mutex_);
  std::vector<std::string> out;
  for (const Share& share : shares_) out.push_back(share.kept);
  return out;
}

}  // namespace pargeter::standin
