"""Keeping two trees in sync: what differs between them and their baseline, and what will be done about it.

Three steps, so that a person can change their mind without anything being read again: `compared` lays the trees side by side
and finds what differs (`joint.py` says how each name stands); `proposed` says for one wish (publish, fetch, level) what
will be done with each row, which a person may change row by row; `sync_steps` turns that into ordered steps for each side.

                         level                 publish                        fetch
    newer here           upload                upload                         download, and said
    newer there          download              upload, and said               download
    only here, new       upload                upload                         removal here
    only here, removed   removal here          upload                         removal here
    only there           as only here, with the sides exchanged
    both changed         decide                decide                         decide
    a guess              decide                upload                         download

A removal follows, is left, or is asked for, as the person wishes. Where a tree was read empty nothing is removed because
of it; below a folder that could not be read nothing is known, and nothing done. What a sieve holds back is neither carried
nor removed on the other side. Links and devices are never carried; what differs only in how its name is spelled (capitals,
composed letters) waits for a decision, because many servers cannot hold both.
"""
