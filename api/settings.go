package api

// ServiceSetting is one of those that a service runs with.
type ServiceSetting struct {
	Name  string `json:"name" doc:"The option of lantern serve that sets it; empty for what is not set"`
	Value string `json:"value" doc:"As the option takes it"`
	Says  string `json:"says" doc:"What it means, for people"`
}

// SettingPage is what a service runs with.
type SettingPage struct {
	Version  string           `json:"version"`
	Settings []ServiceSetting `json:"items"`
	Total    int              `json:"total"`
	Next     int              `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
}
