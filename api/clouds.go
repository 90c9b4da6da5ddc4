package api

import "yellowfence.example/yfence/core/dialect/group"

// Cloud is how one cloud stands, with its groups and instances as they were when it was last read.
type Cloud struct {
	Version int `json:"version"`
	CloudStatus
	CloudListing
	Limits group.Abilities `json:"limits" doc:"what a group and an instance can hold there"`
}

// CloudListing is what a cloud has: groups, and instances with the groups that they are in.
type CloudListing struct {
	HasGroups    []CloudGroup    `json:"has_groups" nullable:"false" doc:"its security groups, ours first"`
	HasInstances []CloudInstance `json:"has_instances" nullable:"false"`
	More         int             `json:"more,omitempty" doc:"so many groups and instances are left out: there are too many"`
}

// CloudGroup is a security group of a cloud.
type CloudGroup struct {
	Name     string `json:"name"`
	Ours     bool   `json:"ours,omitempty" doc:"it was made for the policy"`
	Inbound  int    `json:"inbound" doc:"how many rules it has for what comes in"`
	Outbound int    `json:"outbound" doc:"and for what goes out"`
	Members  int    `json:"members" doc:"how many instances are in it"`
}

// CloudInstance is an instance of a cloud.
type CloudInstance struct {
	ID      string   `json:"id"`
	Host    string   `json:"host,omitempty" doc:"which host of the fleet it is; left out where the fleet does not know it"`
	Groups  []string `json:"groups" nullable:"false" doc:"that it is in"`
	Asked   int64    `json:"asked,omitempty" doc:"the revision whose groups it was last asked to have; left out where never"`
	InForce bool     `json:"in_force" doc:"what it was asked for was in force when the cloud was read"`
	Failed  string   `json:"failed,omitempty" doc:"why it cannot be"`
}
