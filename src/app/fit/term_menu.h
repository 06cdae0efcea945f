#pragma once
#include "workspace/session.h"

#include <QMenu>

#include <functional>

namespace oxgoad {

/// Fills a menu with the ways a column of this kind can enter: as a new term, or, with the place of a term,
/// in its stead.
void addFormActions(QMenu& menu, Session& session, const std::string& column, ColumnKind kind,
                    std::optional<std::size_t> term);

/// Offers the orders in which the lines of a term can stand; `chosen` is called when another one is taken.
void addOrderActions(QMenu& menu, Session& session, const Term& term, std::function<void()> chosen);

} // namespace oxgoad
