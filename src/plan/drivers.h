/* Who serves the nodes of a tree: drivers inside of the kernel, modules of the ramdisk and of the
 * root, and what the kernel's sources could build. */
#ifndef MOS_PLAN_DRIVERS_H
#define MOS_PLAN_DRIVERS_H

#include "base/map.h"
#include "kconfig/build.h"
#include "linux/match.h"
#include "plan/plan.h"

/* The nearest first: a node that has several takes the first. */
enum mos_served {
    MOS_SERVED_BUILT_IN,
    MOS_SERVED_RAMDISK, /* by a module in the ramdisk */
    MOS_SERVED_ROOT,    /* by a module in the root */
    MOS_SERVED_MODULE,  /* by a module; where it is nobody knows */
    MOS_SERVED_NAMED,   /* the kernel's code names it, no table does */
    MOS_SERVED_OFF,     /* the sources have a driver, which is not built */
    MOS_SERVED_BY_NONE,
    MOS_SERVED_UNKNOWN, /* neither the kernel nor its sources can be looked at */
};

struct mos_driver {
    enum mos_served served;
    const char *compatible; /* that it answers to; NULL: none */
    const char *module;     /* "kernel/drivers/mmc/host/sdhci.ko"; or NULL */
    const char *file;       /* of the sources that has it; NULL: not known */
    const char *symbol;     /* that builds it, without CONFIG_; NULL: not known, or always built */
    const char *value;      /* … and what it comes to: y, m, n; NULL: not known */
};

/* What is read out of a kernel's image. */
struct mos_kernel_inside {
    struct mos_match match; /* no tables: it is none that reads trees, or cannot be looked into */
    const char *release;    /* as its banner has it; NULL: it has none */
};

struct mos_drivers {
    struct mos_plan *plan;
    const struct mos_kernel_inside *inside; /* NULL: no kernel is there */
    bool has_match;                         /* it has match tables */
    bool has_root, has_ramdisk;             /* their modules are known */
    struct mos_map root, ramdisk;           /* "maker,part", "i2c:part", "spi:part" -> its module */
    struct mos_map root_parts, ramdisk_parts; /* "amba:d???41330" -> its module */
    const struct mos_kc_build *build;         /* NULL: there are no sources of drivers */
    const struct mos_entry_plan *entry;       /* the default one */
};

/* Of the default entry's kernel; NULL: it is not there, or no kernel. */
const struct mos_kernel_inside *mos_plan_kernel_inside(struct mos_plan *plan);
/* Gathers what is known, once; NULL: nothing is started. */
const struct mos_drivers *mos_plan_drivers(struct mos_plan *plan);
struct mos_driver mos_plan_driver_of(const struct mos_drivers *d, const struct mos_dt_node *node);
/* Is it a device that the kernel looks for a driver for: switched on, with `compatible`, no
 * processor and no memory? */
bool mos_plan_wants_driver(const struct mos_dt_node *node);
/* Is it a bus whose devices are made without a driver of its own? */
bool mos_plan_is_plain_bus(const struct mos_dt_node *node);

#endif
