package store

import "gorm.io/gorm"

// KeptProposals is how many proposals of a bundle are kept.
const KeptProposals = 100

// SaveFollow adds what a bundle follows, or replaces it.
type SaveFollow struct{ Follow }

func (c SaveFollow) write(tx *gorm.DB) error {
	text, err := encode(c.Follow)
	if err != nil {
		return err
	}
	return tx.Save(&followRow{Bundle: c.Bundle, Record: text}).Error
}

// DeleteFollow deletes what a bundle follows, with its proposals; one that is not there
// is no error.
type DeleteFollow struct{ Bundle string }

func (c DeleteFollow) write(tx *gorm.DB) error {
	if err := tx.Where("bundle = ?", c.Bundle).Delete(&proposalRow{}).Error; err != nil {
		return err
	}
	return tx.Where("bundle = ?", c.Bundle).Delete(&followRow{}).Error
}

// SaveProposal adds a proposal, or replaces the one of its number. The oldest of the bundle
// beyond KeptProposals are deleted.
type SaveProposal struct{ Proposal }

func (c SaveProposal) write(tx *gorm.DB) error {
	text, err := encode(c.Proposal)
	if err != nil {
		return err
	}
	if err := tx.Save(&proposalRow{Number: c.Number, Bundle: c.Bundle, Record: text}).Error; err != nil {
		return err
	}
	return tx.Exec(`DELETE FROM proposals WHERE bundle = ? AND number NOT IN
		(SELECT number FROM proposals WHERE bundle = ? ORDER BY number DESC LIMIT ?)`,
		c.Bundle, c.Bundle, KeptProposals).Error
}
