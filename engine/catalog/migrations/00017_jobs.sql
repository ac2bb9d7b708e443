-- +goose Up
-- What may run only once at a time is the queue's to say; a task and its job come to be together.
drop index velvet.one_backup_at_a_time;
drop index velvet.one_keep_run_at_a_time;
-- Jobs of earlier versions carried only the id of their task, and nobody takes them any more.
update velvet.tasks set state = 'failed', finished_at = now(),
    problem = '{"type": "urn:velvet:problem:interrupted", "title": "the task was interrupted", "status": 503,
        "detail": "it waited while the service was updated, and had not begun", "next": "Start it again."}'
    where state = 'waiting';
