"""What happened. `events` are what can; `state` adds them up in memory, without input or output;
`store` keeps them in a folder (`database`, `codec` for events as rows, `rebuild` where a log was
lost); `identity` names what results are kept under."""
