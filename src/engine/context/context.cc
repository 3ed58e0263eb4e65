// Context: how its parts are joined.
#include "engine/context/context.h"

namespace pargeter {

Context::Context(DriveOptions drive_options, std::unique_ptr<Provider> provider)
    : options(std::move(drive_options)),
      store(std::move(provider), {options.clock, options.trial_pause, stop,
                                  [this] {
                                    pins.Wake();
                                    outbox.Wake();
                                  }}),
      outbox({options.clock, options.upload_workers, options.quiet, stop,
              [this] { return store.OfflineSince() == 0; }}),
      tree({options.clock, options.remembered, options.quiet}, this) {}

}  // namespace pargeter
