/* How much may be sent in so long. */
#include "budget.h"

/* From which share of the budget on, in percent: the rest is kept for what is worth more
 * than its bytes. */
static const struct {
    int64_t from_pct;
    twi_thrift thrift;
} STEPS[] = {{100, TWI_THRIFT_ALL},
             {95, TWI_THRIFT_SMALL},
             {85, TWI_THRIFT_STILLS},
             {70, TWI_THRIFT_CLIPS}};

twi_thrift twi_budget_thrift(const twi_budget *budget, int64_t spent)
{
    if (budget->bytes <= 0)
        return TWI_THRIFT_NONE;
    for (unsigned i = 0; i < sizeof STEPS / sizeof *STEPS; i++)
        if (spent >= budget->bytes / 100 * STEPS[i].from_pct +
                         budget->bytes % 100 * STEPS[i].from_pct / 100)
            return STEPS[i].thrift;
    return TWI_THRIFT_NONE;
}

const char *twi_thrift_words(twi_thrift thrift)
{
    switch (thrift) {
    case TWI_THRIFT_CLIPS: return " clip timed segment reel ";
    case TWI_THRIFT_STILLS: return " still clip timed segment reel ";
    case TWI_THRIFT_SMALL: return " small still clip timed segment reel ";
    case TWI_THRIFT_ALL: return " record small still clip timed segment reel ";
    case TWI_THRIFT_NONE: break;
    }
    return "";
}

const char *twi_thrift_name(twi_thrift thrift)
{
    switch (thrift) {
    case TWI_THRIFT_CLIPS: return "clips wait";
    case TWI_THRIFT_STILLS: return "clips and stills wait";
    case TWI_THRIFT_SMALL: return "all but records waits";
    case TWI_THRIFT_ALL: return "all but alarms waits";
    case TWI_THRIFT_NONE: break;
    }
    return "everything goes";
}
