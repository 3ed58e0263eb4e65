// Contents: what is said of wrong ones.
#include "engine/bytes/content.h"

namespace pargeter {

Error NotWhatItSaid() {
  return Error(Code::kDamaged,
               "what the store sent does not have the digest that it gave; nothing of it is kept",
               "Open it again; if that fails too, the store's copy is damaged.");
}

}  // namespace pargeter
