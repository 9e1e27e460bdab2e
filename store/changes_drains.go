package store

import "gorm.io/gorm"

// SaveDrain adds a drain of a site, or replaces it.
type SaveDrain struct{ Drain }

func (c SaveDrain) write(tx *gorm.DB) error {
	text, err := encode(c.Drain)
	if err != nil {
		return err
	}
	return tx.Save(&drainRow{Site: c.Site, Record: text}).Error
}

// DeleteDrain deletes the drain of a site, which is over; one that is not there is no error.
type DeleteDrain struct{ Site string }

func (c DeleteDrain) write(tx *gorm.DB) error {
	return tx.Where("site = ?", c.Site).Delete(&drainRow{}).Error
}
