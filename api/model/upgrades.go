package model

import "time"

// Program is a program that was uploaded.
type Program struct {
	Hash string `json:"hash"` // SHA-256, in hexadecimal digits
	Size int64  `json:"size"` // bytes
}

// UpgradeRequest has the fleet take a program, wave by wave.
type UpgradeRequest struct {
	Hash string `json:"hash"`           // of a program that was uploaded
	Name string `json:"name,omitempty"` // of its file, for people
	// shares that have it after each wave; 5%, 25%, 100% when absent
	Waves []string `json:"waves,omitempty"`
	Each  string   `json:"each,omitempty"` // how long a wave is looked at; 10s when absent
	Site  string   `json:"site,omitempty"` // only proxies there; absent: all
}

// The states of an upgrade.
const (
	UpgradeRunning    = "running"
	UpgradeTakingBack = "taking-back"
	UpgradeCompleted  = "completed"
	UpgradeTakenBack  = "taken-back"
)

// Upgrade is that the fleet takes a program.
type Upgrade struct {
	Number  uint          `json:"number"`
	By      string        `json:"by"`
	Began   time.Time     `json:"began"`
	Ended   *time.Time    `json:"ended,omitempty"` // absent: it is running
	Program string        `json:"program"`         // name of its file
	Hash    string        `json:"hash"`
	Size    int64         `json:"size"`
	Site    string        `json:"site,omitempty"`
	Each    string        `json:"each"`
	State   string        `json:"state"` // running, taking-back, completed or taken-back
	Why     string        `json:"why,omitempty"`
	Waves   []UpgradeWave `json:"waves"`
}

// UpgradeWave is the proxies that take the program together.
type UpgradeWave struct {
	Proxies  []string `json:"proxies"`
	HasBegun bool     `json:"hasBegun"`
	Took     int      `json:"took"`             // proxies that have run the program
	Failed   []string `json:"failed,omitempty"` // PROXY: why it does not
}

// UpgradeList is upgrades, newest first.
type UpgradeList struct {
	Upgrades []Upgrade `json:"upgrades"`
}
