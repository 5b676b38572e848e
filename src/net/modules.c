/* Loading the modules of servers and clients. */
#include "../base/module.h"
#include "broker.h"
#include "finding.h"
#include "transfer.h"
#include "web.h"

const twi_transfer *twi_transfer_load(tw_error *err)
{
    return twi_module_table("transfer", TWI_TRANSFER_ABI, err);
}

const twi_broker_module *twi_broker_load(tw_error *err)
{
    return twi_module_table("broker", TWI_BROKER_ABI, err);
}

const twi_web_module *twi_web_load(tw_error *err)
{
    return twi_module_table("web", TWI_WEB_ABI, err);
}

const twi_finding *twi_finding_load(tw_error *err)
{
    return twi_module_table("finding", TWI_FINDING_ABI, err);
}
