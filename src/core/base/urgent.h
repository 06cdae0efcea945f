#pragma once
// Work that people wait for goes before work beside it.

namespace oxgoad {

/// While one is there, loops of its thread that ask for all cores get them, and loops of other threads go on
/// without helpers: those that have some let them go at their next piece of work. Changes no result.
class Urgent {
public:
    Urgent();
    ~Urgent();
    Urgent(const Urgent&) = delete;
    Urgent& operator=(const Urgent&) = delete;
};

} // namespace oxgoad
