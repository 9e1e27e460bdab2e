package model

// StandIn is a simulated workload, and how it behaves now.
type StandIn struct {
	Instance    string   `json:"instance"`
	Service     string   `json:"service"`
	Version     string   `json:"version"`
	Site        string   `json:"site"`
	MedianMS    float64  `json:"medianMS"`    // of its service time, which is log-normal
	Spread      float64  `json:"spread"`      // standard deviation of the logarithm of its service time
	Errors      float64  `json:"errors"`      // share of the requests that it answers with 500
	Concurrency int      `json:"concurrency"` // requests that it works on at once; more of them wait
	Calls       []string `json:"calls"`       // services that it calls, one after the other
	Requires    []string `json:"requires"`    // of these, services without which it answers 502
	IsChanged   bool     `json:"isChanged"`   // it does not behave as the sample says
}

// StandInChange is how a stand-in is to behave. What is absent stays as it is.
type StandInChange struct {
	MedianMS    *float64 `json:"medianMS,omitempty"`    // 0 to 60000
	SlowerMS    *float64 `json:"slowerMS,omitempty"`    // added to the median of the sample
	Errors      *float64 `json:"errors,omitempty"`      // 0 to 1
	Concurrency *int     `json:"concurrency,omitempty"` // 1 to 4096
	// services to call, at most 8; the path is the sample's, or /
	Calls *[]string `json:"calls,omitempty"`
	// services without which it answers 502; it has to call them
	Requires *[]string `json:"requires,omitempty"`
	Reset    bool      `json:"reset,omitempty"` // first return to what the sample says
}

// StandInList is the stand-ins beside the service.
type StandInList struct {
	StandIns []StandIn `json:"standIns"`
}
