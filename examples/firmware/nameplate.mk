# For any Makefile: writes $(BUILD)/nameplate.c anew for every build, so that the nameplate says what is built now.
#   NAMEPLATE = --line hive-scale --board comb-s1 --version 2.6.0 --floor 4
#   include nameplate.mk
#   firmware.elf: main.o $(BUILD)/nameplate.c
# The linker script keeps the section: .nameplate : ALIGN(4) { KEEP(*(.nameplate)) }
HERALD ?= herald
BUILD ?= build

$(BUILD)/nameplate.c: NAMEPLATE-ANEW
	@mkdir -p $(BUILD)
	$(HERALD) nameplate make $(NAMEPLATE) --build-id "$(BUILD_ID)" --build-time $(or $(SOURCE_DATE_EPOCH),now) --out $@

NAMEPLATE-ANEW:
.PHONY: NAMEPLATE-ANEW
