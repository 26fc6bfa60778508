/// @file frame.hpp
/// Names of the tools beside the view and of the tables below it.

#pragma once

namespace escultura::app {

/// What changes geometry or duty in the view.
enum class Tool { none, interfaces, loads, cage, features };

/// Tables of the drawer, in the order of their tabs.
enum class Table {
    interfaces,
    loads,
    requirements,
    fields,
    losses,
    changes,
    features,
    reactions,
    worstElements,
    readings,
    findings,
    releases,
    variants,
    studies,
    history,
    log
};

}  // namespace escultura::app
