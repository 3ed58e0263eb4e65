// A drive that has held back the deletion of a folder with forty files.
#pragma once
#include <gtest/gtest.h>

#include <string>

#include "support/story.h"

namespace pargeter::test {

class HoldTest : public DriveTest {
 protected:
  void SetUp() override {
    hold_files_ = 20;
    hold_quiet_ = Duration(1000);  // a sweep is one, however slowly this machine goes
    for (int i = 0; i < 40; ++i) world_.Put("d/" + std::to_string(i), "x");
    Play("put other: o; open");
    ASSERT_GE(Names("d").size(), 40u);
  }
  void DeleteAll() {
    const NodeId d = IdOf("d");
    for (int i = 0; i < 40; ++i) ASSERT_TRUE(drive_->Unlink(d, std::to_string(i)).ok());
    ASSERT_TRUE(drive_->RemoveFolder(kRootId, "d").ok());
    FlushAll();  // what is held back is not waited for
  }
  std::size_t AtTheStore() {
    std::size_t n = 0;
    for (const auto& [path, body] : world_.All())
      n += path.compare(0, 2, "d/") == 0 && path != "d/";
    return n;
  }
};

}  // namespace pargeter::test
