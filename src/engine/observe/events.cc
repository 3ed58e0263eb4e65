// Events: the thread that hands them to a face.
#include "engine/observe/events.h"

namespace pargeter {

void Events::Start(ChangeListener* listener) {
  if (listener == nullptr) return;
  const Lock lock(mutex_);
  listener_ = listener;
  thread_ = std::thread([this] { Run(); });
}

void Events::Stop() {
  {
    const Lock lock(mutex_);
    stopped_ = true;
    changed_.NotifyAll();
  }
  if (thread_.joinable()) thread_.join();
}

void Events::Publish(Event event) {
  if (event.kind == Event::Kind::kHappened) {
    Happening& h = event.happening;
    activity_.Add(std::move(h.side), std::move(h.what), std::move(h.path), std::move(h.detail));
    return;
  }
  const Lock lock(mutex_);
  if (listener_ == nullptr || stopped_) return;
  waiting_.push_back(std::move(event));
  changed_.NotifyOne();
}

void Events::HandTo(ChangeListener* listener, const Event& event) {
  switch (event.kind) {
    case Event::Kind::kContentChanged:
      listener->ContentChanged(event.id);
      break;
    case Event::Kind::kAttributesChanged:
      listener->AttributesChanged(event.id);
      break;
    case Event::Kind::kNameChanged:
      listener->NameChanged(event.id, event.name);
      break;
    case Event::Kind::kFolderListed:
      listener->FolderListed(event.id);
      break;
    case Event::Kind::kHappened:
      break;
  }
}

void Events::Run() {
  for (;;) {
    std::vector<Event> events;
    ChangeListener* listener = nullptr;
    {
      Lock lock(mutex_);
      while (waiting_.empty() && !stopped_)
        changed_.WaitUntil(mutex_, std::chrono::steady_clock::now() + std::chrono::hours(1));
      if (stopped_) return;
      events.swap(waiting_);
      listener = listener_;
    }
    for (const Event& event : events) HandTo(listener, event);
  }
}

}  // namespace pargeter
