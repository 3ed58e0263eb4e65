#include "service/units.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "service/notify.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

ServiceSpec Spec() {
  ServiceSpec s;
  s.drive = "sheets";
  s.program = "/opt/my tools/100%/par$geter";
  s.config_dir = "/home/anna/.config/pargeter";
  s.state_dir = "/home/anna/.local/state/pargeter";
  s.at = "/home/anna/sheets";
  s.user = "anna";
  s.systemd_version = 252;
  return s;
}

bool Has(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

TEST(UnitsTest, WordsAreTakenLiterally) {
  EXPECT_EQ(UnitQuote("/a b/\"c\"/50%/$x\\"), "\"/a b/\\\"c\\\"/50%%/$$x\\\\\"");
}

TEST(UnitsTest, ADropInSaysAgainWhatItWasMadeOf) {
  const ServiceSpec spec = Spec();
  const auto read = ParseDropIn(DropInText(spec));
  ASSERT_TRUE(read);
  EXPECT_EQ(read->drive, spec.drive);
  EXPECT_EQ(read->program, spec.program);
  EXPECT_EQ(read->config_dir, spec.config_dir);
  EXPECT_EQ(read->state_dir, spec.state_dir);
  EXPECT_EQ(read->at, spec.at);
  EXPECT_EQ(read->user, spec.user);
  EXPECT_FALSE(ParseDropIn("[Service]\nDrive=sheets\nConfigDir=/a\nStateDir=/b\n"))
      << "another's section";
}

TEST(UnitsTest, OnlyWhatFuseAllowsIsClosed) {
  ServiceSpec spec = Spec();
  EXPECT_FALSE(Has(DropInText(spec), "NoNewPrivileges")) << "a user's manager";
  spec.scope = Scope::kSystem;
  EXPECT_FALSE(Has(DropInText(spec), "NoNewPrivileges")) << "fusermount3 is set-uid";
  EXPECT_TRUE(Has(DropInText(spec), "User=anna\n"));
  spec.user = "root";
  EXPECT_TRUE(Has(DropInText(spec), "NoNewPrivileges=yes"));
  for (const char* own_mounts :
       {"ProtectSystem=", "ProtectHome=", "PrivateTmp=", "PrivateDevices="})
    EXPECT_FALSE(Has(TemplateText(Scope::kSystem) + DropInText(spec), own_mounts)) << own_mounts;
  EXPECT_FALSE(Has(DropInText(spec), "RestartSteps"));
  spec.systemd_version = 255;
  EXPECT_TRUE(Has(DropInText(spec), "RestartSteps"));
}

TEST(UnitsTest, InstalledServicesAreFound) {
  const TemporaryFolder home;
  const UnitPlaces places = PlacesOf(Scope::kUser, home.path());
  EXPECT_TRUE(InstalledServices(places).empty());
  std::filesystem::create_directories(places.DropInFolder("sheets"));
  std::ofstream(places.DropIn("sheets")) << DropInText(Spec());
  std::filesystem::create_directories(places.DropInFolder("foreign"));
  std::ofstream(places.DropIn("foreign")) << "[Service]\nUser=x\n";
  const auto found = InstalledServices(places);
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].drive, "sheets");
  EXPECT_FALSE(StartsByItself(places, "sheets"));
  std::filesystem::create_directories(
      std::filesystem::path(places.WantsLink("sheets")).parent_path());
  std::filesystem::create_symlink(places.Template(), places.WantsLink("sheets"));
  EXPECT_TRUE(StartsByItself(places, "sheets"));
}

TEST(NotifyTest, WithoutAManagerNothingIsSaid) {
  ::unsetenv("NOTIFY_SOCKET");
  const Notify notify;
  EXPECT_FALSE(notify.listened());
  EXPECT_FALSE(notify.watchdog());
  notify.Ready("nobody listens");
}

}  // namespace
}  // namespace pargeter::test
