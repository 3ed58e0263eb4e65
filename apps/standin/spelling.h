// Names as a server has them that takes those for one which differ only in case or in Unicode form:
// whoever asks for one spelling means the file that is there, however that is spelled.
//
// The caller sees to it that one thread uses it at a time.
#pragma once

#include <map>
#include <string>

namespace pargeter::standin {

class Spelling {
 public:
  explicit Spelling(bool folds) : folds_(folds) {}
  void Made(const std::string& key);  // a folder's ends in "/"
  void Gone(const std::string& key);
  // The path with what is there of it spelled as it is there; a slash at its end stays.
  std::string Actual(const std::string& path) const;

 private:
  const bool folds_;
  std::map<std::string, std::string> actual_;  // both without a slash at the end
};

}  // namespace pargeter::standin
