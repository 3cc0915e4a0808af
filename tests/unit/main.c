#include "support.h"

extern const struct test base_suite[], model_suite[], tree_suite[], disk_suite[], fs_suite[],
    boot_suite[], kconfig_suite[], content_suite[], plan_suite[], build_suite[], resolve_suite[],
    volumes_suite[], parcel_suite[], linux_suite[];

int main(void) {
    const struct test *const suites[] = {base_suite,   model_suite, tree_suite,    disk_suite,
                                         fs_suite,     boot_suite,  kconfig_suite, content_suite,
                                         plan_suite,   build_suite, resolve_suite, volumes_suite,
                                         parcel_suite, linux_suite, NULL};
    const char *const names[] = {"base",    "model",   "tree",    "disk", "fs",
                                 "boot",    "kconfig", "content", "plan", "build",
                                 "resolve", "volumes", "parcel",  "linux"};
    return run_suites(suites, names);
}
