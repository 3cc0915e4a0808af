#include "disk/table.h"

const struct mos_partition *mos_table_partition(const struct mos_table_data *t, unsigned number) {
    for (size_t i = 0; i < t->partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&t->partitions, i);
        if (p->number == number)
            return p;
    }
    return NULL;
}
