#include "rules/rules.h"

static const struct {
    enum mos_rule_stage stage;
    void (*run)(const struct mos_plan *plan);
} families[] = {
    {MOS_STAGE_PLAN, mos_rule_layout},
    {MOS_STAGE_PLAN, mos_rule_ram},
    {MOS_STAGE_PLAN, mos_rule_fallback},
    {MOS_STAGE_PLAN, mos_rule_boot},
    {MOS_STAGE_PLAN, mos_rule_loader},
    {MOS_STAGE_PLAN, mos_rule_layout_facts},
    {MOS_STAGE_PLAN, mos_rule_layout_logical},
    {MOS_STAGE_PLAN, mos_rule_layout_slots},
    {MOS_STAGE_PLAN, mos_rule_flash},
    {MOS_STAGE_PLAN, mos_rule_flash_string},
    {MOS_STAGE_VOLUMES, mos_rule_volume_use},
    {MOS_STAGE_PLAN, mos_rule_piece},
    {MOS_STAGE_PLAN, mos_rule_access},
    {MOS_STAGE_VOLUMES, mos_rule_volume},
    {MOS_STAGE_VOLUMES, mos_rule_mounts},
    {MOS_STAGE_VOLUMES, mos_rule_access_files},
    {MOS_STAGE_VOLUMES, mos_rule_access_folders},
    {MOS_STAGE_VOLUMES, mos_rule_board},
    {MOS_STAGE_VOLUMES, mos_rule_budget},
    {MOS_STAGE_PLAN, mos_rule_stages},
    {MOS_STAGE_PLAN, mos_rule_direct},
    {MOS_STAGE_PLAN, mos_rule_order},
    {MOS_STAGE_PLAN, mos_rule_lock},
    {MOS_STAGE_PLAN, mos_rule_idle},
    {MOS_STAGE_PLAN, mos_rule_loader_build},
    {MOS_STAGE_PLAN, mos_rule_loader_env},
    {MOS_STAGE_PLAN, mos_rule_rom},
    {MOS_STAGE_PLAN, mos_rule_programming},
    {MOS_STAGE_PLAN, mos_rule_acceptance},
    {MOS_STAGE_PLAN, mos_rule_network},
    {MOS_STAGE_PLAN, mos_rule_fills},
    {MOS_STAGE_PLAN, mos_rule_console},
    {MOS_STAGE_PLAN, mos_rule_tree_use},
    {MOS_STAGE_PLAN, mos_rule_tree_claims},
    {MOS_STAGE_PLAN, mos_rule_tree_bindings},
    {MOS_STAGE_PLAN, mos_rule_kernel_requests},
    {MOS_STAGE_VOLUMES, mos_rule_stage_files},
    {MOS_STAGE_VOLUMES, mos_rule_search},
    {MOS_STAGE_VOLUMES, mos_rule_settings},
    {MOS_STAGE_VOLUMES, mos_rule_console_files},
    {MOS_STAGE_VOLUMES, mos_rule_kernel},
    {MOS_STAGE_VOLUMES, mos_rule_kernel_drivers},
    {MOS_STAGE_VOLUMES, mos_rule_modules},
    {MOS_STAGE_VOLUMES, mos_rule_module_index},
    {MOS_STAGE_VOLUMES, mos_rule_device_files},
    {MOS_STAGE_VOLUMES, mos_rule_fallback_files},
    {MOS_STAGE_VOLUMES, mos_rule_system_files},
    {MOS_STAGE_VOLUMES, mos_rule_ramdisk_root},
    {MOS_STAGE_PLAN, mos_rule_first_users},
    {MOS_STAGE_VOLUMES, mos_rule_first_start},
    {MOS_STAGE_VOLUMES, mos_rule_system_network},
    {MOS_STAGE_VOLUMES, mos_rule_start},
};

void mos_rules_run(const struct mos_plan *plan, enum mos_rule_stage stage) {
    for (size_t i = 0; i < sizeof families / sizeof *families; i++)
        if (families[i].stage == stage)
            families[i].run(plan);
}
