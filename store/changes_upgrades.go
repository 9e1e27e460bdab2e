package store

import "gorm.io/gorm"

// KeptUpgrades is how many upgrades are kept.
const KeptUpgrades = 100

// SaveUpgrade adds an upgrade under its number, or replaces it. The oldest beyond
// KeptUpgrades are deleted.
type SaveUpgrade struct{ Upgrade }

func (c SaveUpgrade) write(tx *gorm.DB) error {
	text, err := encode(c.Upgrade)
	if err != nil {
		return err
	}
	if err := tx.Save(&upgradeRow{Number: c.Number, Record: text}).Error; err != nil {
		return err
	}
	return tx.Exec(`DELETE FROM upgrades WHERE number NOT IN (SELECT number FROM upgrades ORDER BY number DESC LIMIT ?)`,
		KeptUpgrades).Error
}
